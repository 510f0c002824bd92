package demo

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/signal"
	"strings"
	"syscall"
	"time"

	"github.com/pelletier/go-toml/v2"
)

// actors are the programs of the demo. Each runs in the project's directory until it is done or ctx is; an error ends
// it with exit status 1.
var actors = map[string]func(ctx context.Context) error{
	"tides":     tides,
	"berths":    berths,
	"tickets":   tickets,
	"manifest":  manifest,
	"fares":     fares,
	"timetable": timetable,
	"harbour":   harbour,
	"lint":      lint,
	"publish":   publish,
}

// Act runs the actor with a name and returns its exit status.
func Act(name string) int {
	actor := actors[name]
	if actor == nil {
		fmt.Fprintf(os.Stderr, "the demo has no actor %q\n", name)
		return 2
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if err := actor(ctx); err != nil {
		fmt.Fprintf(os.Stderr, "\x1b[31m%v\x1b[0m\n", err)
		return 1
	}
	return 0
}

// readTOML reads a file strictly; its errors name file, line and column.
func readTOML(file string, into any) error {
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	defer f.Close()
	err = toml.NewDecoder(f).DisallowUnknownFields().Decode(into)
	var decode *toml.DecodeError
	var strict *toml.StrictMissingError
	switch {
	case errors.As(err, &decode):
		line, column := decode.Position()
		return fmt.Errorf("%s:%d:%d: %w", file, line, column, err)
	case errors.As(err, &strict) && len(strict.Errors) > 0:
		line, column := strict.Errors[0].Position()
		return fmt.Errorf(
			"%s:%d:%d: there is no setting %s",
			file,
			line,
			column,
			strings.Join(strict.Errors[0].Key(), "."),
		)
	}
	return err
}

// duration is a duration in the demo's files.
type duration struct{ time.Duration }

func (d *duration) UnmarshalText(text []byte) (err error) {
	d.Duration, err = time.ParseDuration(string(text))
	return err
}

func say(format string, args ...any) { fmt.Printf(format+"\n", args...) }

const (
	dim    = "\x1b[2m"
	green  = "\x1b[32m"
	yellow = "\x1b[33m"
	cyan   = "\x1b[36m"
	plain  = "\x1b[0m"
)

// serve listens on the port that the environment names, prints the greeting, and serves until ctx is done; then it
// lets pending requests finish.
func serve(ctx context.Context, h http.Handler, greeting string) error {
	listener, err := net.Listen("tcp", "127.0.0.1:"+os.Getenv("PORT"))
	if err != nil {
		return err
	}
	say("%s", greeting)
	server := &http.Server{Handler: h}
	go func() {
		<-ctx.Done()
		grace, stop := context.WithTimeout(context.Background(), time.Second)
		defer stop()
		server.Shutdown(grace)
	}()
	if err := server.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	say("%sclosed%s", dim, plain)
	return nil
}

func healthy(w http.ResponseWriter, _ *http.Request) { fmt.Fprintln(w, "ok") }

// ask fetches a page from another actor.
func ask(ctx context.Context, url string) (string, error) {
	ctx, stop := context.WithTimeout(ctx, time.Second)
	defer stop()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, url, nil)
	if err != nil {
		return "", err
	}
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return "", err
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(resp.Body)
	if err == nil && resp.StatusCode != http.StatusOK {
		err = fmt.Errorf("%s: %s", url, resp.Status)
	}
	return strings.TrimSpace(string(body)), err
}

// every calls f now and then after each pause, until ctx is done.
func every(ctx context.Context, pause time.Duration, f func(n int)) {
	ticker := time.NewTicker(max(pause, 10*time.Millisecond))
	defer ticker.Stop()
	for n := 0; ; n++ {
		f(n)
		select {
		case <-ticker.C:
		case <-ctx.Done():
			return
		}
	}
}

// work simulates the effort of a compiler or an import: it takes that long.
func work(ctx context.Context, d time.Duration) {
	select {
	case <-time.After(d):
	case <-ctx.Done():
	}
}
