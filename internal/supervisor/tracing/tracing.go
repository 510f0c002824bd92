// Package tracing sends the ripples of a running project to a receiver of OpenTelemetry traces, over OTLP/HTTP with
// JSON. It never delays anything: what the receiver does not take in time is dropped, and counted. Start reading at
// Exporter.
package tracing

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/api/otlp"
	"omnivigil/internal/text/format"
)

const (
	// maxWaiting is how many ripples wait to be sent.
	maxWaiting = 100
	// patience is how long the receiver may take for one.
	patience = 5 * time.Second
	// atEnd is how long is waited for the rest when the project has ended.
	atEnd = 2 * time.Second
)

// Project is what is traced. Its methods may be called from any goroutine.
type Project interface {
	Subscribe(ctx context.Context, since int64, hear func(api.Fact) error) error
	Snapshot(ctx context.Context) (*api.Snapshot, error)
}

// Exporter sends the ripples of a project.
type Exporter struct {
	URL     string // of the receiver, such as http://127.0.0.1:4318
	Project Project
	Note    func(text string) // reports what was not sent
}

// Follow sends every ripple that has come to rest, until the project has ended. It blocks.
func (e *Exporter) Follow(ctx context.Context) {
	waiting, sent := make(chan otlp.Traces, maxWaiting), make(chan struct{})
	sending, stop := context.WithCancel(context.WithoutCancel(ctx))
	defer stop()
	var dropped int
	go func() {
		defer close(sent)
		e.send(sending, waiting)
	}()
	err := e.Project.Subscribe(ctx, 0, func(f api.Fact) error {
		if f.RippleWas == nil {
			return nil
		}
		snap, err := e.Project.Snapshot(ctx)
		if err != nil {
			return err
		}
		// The snapshot may be from before the fact, so the ripple is not taken from there.
		select {
		case waiting <- otlp.Of(snap.Project, f.RippleWas):
		default:
			dropped++
		}
		return nil
	})
	if errors.Is(err, api.ErrGap) {
		e.Note("no more ripples are sent to " + e.URL + ": too much has happened at once")
	}
	close(waiting)
	select {
	case <-sent:
	case <-time.After(atEnd):
		stop()
		<-sent
	}
	if dropped > 0 {
		e.Note(format.Count(dropped, "ripple") + " not sent to " + e.URL + ": it is too slow")
	}
}

// send sends what is waiting, and reports the first failure and how many there were.
func (e *Exporter) send(ctx context.Context, waiting <-chan otlp.Traces) {
	client := &http.Client{Timeout: patience}
	failed := 0
	for t := range waiting {
		err := e.post(ctx, client, t)
		if err == nil {
			continue
		}
		if failed++; failed == 1 {
			e.Note("ripples are not sent to " + e.URL + ": " + err.Error())
		}
	}
	if failed > 1 {
		e.Note(format.Count(failed, "ripple") + " not sent to " + e.URL)
	}
}

func (e *Exporter) post(ctx context.Context, client *http.Client, t otlp.Traces) error {
	data, err := json.Marshal(t)
	if err != nil {
		return err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, strings.TrimSuffix(e.URL, "/")+"/v1/traces",
		bytes.NewReader(data))
	if err != nil {
		return err
	}
	r.Header.Set("Content-Type", "application/json")
	answer, err := client.Do(r)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	io.Copy(io.Discard, io.LimitReader(answer.Body, 1<<16)) // so that the connection can be used again
	if answer.StatusCode/100 != 2 {
		return fmt.Errorf("it answers with %s", answer.Status)
	}
	return nil
}
