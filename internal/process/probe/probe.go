// Package probe checks from outside whether a service is ready: its port, a URL, a file or a command. It tries often
// at first, since most services are ready at once, and less often later. Start reading at Prober.
package probe

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/http"
	"os"
	"strconv"
	"time"

	"omnivigil/internal/plan"
)

const (
	firstPause = 10 * time.Millisecond
	lastPause  = 500 * time.Millisecond
	tryLimit   = 2 * time.Second // for one attempt
)

// Prober checks whether one run of a service is ready.
type Prober struct {
	// Run runs a command of the settings as part of the run and returns an error unless it exits with status 0. It
	// must return when the context is done.
	Run func(context.Context, plan.Command) error
	// Listens, if set, reports whether some process is seen to listen on a port of this machine. If not, the port is
	// connected to.
	Listens func(port int) bool

	try func(context.Context) error
}

// New returns a prober for a run that is about to start, or nil if the settings detect readiness in another way. The
// state before the start is recorded for comparison.
func New(r plan.Ready) *Prober {
	p := &Prober{}
	switch {
	case r.Port != 0:
		p.try = func(ctx context.Context) error {
			if p.Listens != nil && p.Listens(r.Port) {
				return nil
			}
			return tryPort(ctx, r.Port)
		}
	case r.HTTP != "":
		client := direct(r.Insecure)
		p.try = func(ctx context.Context) error { return tryHTTP(ctx, client, r.HTTP) }
	case r.File != "":
		before, _ := os.Stat(r.File)
		p.try = func(context.Context) error { return tryFile(r.File, before) }
	case r.Run != nil:
		p.try = func(ctx context.Context) error { return p.Run(ctx, *r.Run) }
	default:
		return nil
	}
	return p
}

// Wait checks until the service is ready, and returns true, or until the context is done. It calls saw whenever the
// result of a check differs from the one before.
func (p *Prober) Wait(ctx context.Context, saw func(string)) bool {
	before := ""
	for pause := firstPause; ; pause = min(pause*3/2, lastPause) {
		one, stop := context.WithTimeout(ctx, tryLimit)
		err := p.try(one)
		stop()
		switch {
		case ctx.Err() != nil:
			return false
		case err == nil:
			return true
		case err.Error() != before:
			before = err.Error()
			saw(before)
		}
		select {
		case <-time.After(pause):
		case <-ctx.Done():
			return false
		}
	}
}

// failures is how many checks in a row must fail: a busy machine can delay one answer.
const failures = 2

// Repeat checks the running service at intervals until the context is done. It calls saw when the checks begin to fail,
// with the reason, and when one succeeds again, with "".
func (p *Prober) Repeat(ctx context.Context, interval time.Duration, saw func(problem string)) {
	failed := 0
	for {
		pause := interval
		if failed > 0 && failed < failures {
			pause = min(interval, lastPause)
		}
		select {
		case <-time.After(pause):
		case <-ctx.Done():
			return
		}
		one, stop := context.WithTimeout(ctx, tryLimit)
		err := p.try(one)
		stop()
		switch {
		case ctx.Err() != nil:
			return
		case err == nil:
			if failed >= failures {
				saw("")
			}
			failed = 0
		default:
			if failed++; failed == failures {
				saw(err.Error())
			}
		}
	}
}

// tryFile checks for a file that differs from the one before the start. File times are coarse, so a file that is
// written right after the start may have a time before it.
func tryFile(file string, before fs.FileInfo) error {
	now, err := os.Stat(file)
	switch {
	case err != nil:
		return errors.New("it does not exist")
	case before != nil && os.SameFile(before, now) && before.ModTime().Equal(now.ModTime()) &&
		before.Size() == now.Size():
		return errors.New("it is older than the start")
	}
	return nil
}

func tryPort(ctx context.Context, port int) error {
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", net.JoinHostPort("localhost", strconv.Itoa(port)))
	if err != nil {
		return plainly(err)
	}
	return conn.Close()
}

// direct asks only the service itself: no proxy, no redirects, no kept connections that would survive a restart.
func direct(insecure bool) *http.Client {
	return &http.Client{
		Transport: &http.Transport{
			DisableKeepAlives: true,
			TLSClientConfig:   &tls.Config{InsecureSkipVerify: insecure}, // if set in the settings
		},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
}

func tryHTTP(ctx context.Context, client *http.Client, url string) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, url, nil)
	if err != nil {
		return err
	}
	resp, err := client.Do(req)
	if err != nil {
		return plainly(err)
	}
	resp.Body.Close()
	if resp.StatusCode < 200 || resp.StatusCode > 399 {
		return fmt.Errorf("status %s", resp.Status)
	}
	return nil
}
