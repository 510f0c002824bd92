package bridge

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"sync"
	"time"
)

// pingAfter is how long nothing arrives before the other side is asked whether it is there, and how long it may take to
// answer.
const pingAfter = 3 * time.Second

// Link is the near side of a bridge. It opens the stream when it is needed, and again after it was lost. Its methods
// may be called from any goroutine.
type Link struct {
	// Open opens the stream. Again: it was open before, so the user cannot be asked anything. It returns when the far
	// side may begin.
	Open func(ctx context.Context, again bool) (io.ReadWriteCloser, error)

	once sync.Once
	http *http.Transport

	mu      sync.Mutex
	begun   net.Conn // for the first request; nil: it is opened then
	opened  bool
	version string // of the far program
	problem error  // why the stream could not be opened the last time; nil: it could
}

// maxNoise is how much a shell may print before the far side begins, in bytes.
const maxNoise = 64 << 10

// ErrNoBridge reports that the far side is not a bridge.
var ErrNoBridge = errors.New("omnivigil does not answer there")

func (l *Link) transport() *http.Transport {
	l.once.Do(func() {
		l.http = &http.Transport{
			DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) { return l.dial(ctx) },
			Protocols:   protocols(), DisableCompression: true,
			HTTP2: &http.HTTP2Config{SendPingTimeout: pingAfter, PingTimeout: pingAfter},
		}
	})
	return l.http
}

// RoundTrip implements http.RoundTripper. An answer that could not be fetched, because the project is gone, is ErrGone.
func (l *Link) RoundTrip(r *http.Request) (*http.Response, error) {
	answer, err := l.transport().RoundTrip(r)
	if err == nil && answer.Header.Get(gone) != "" {
		answer.Body.Close()
		return nil, ErrGone
	}
	return answer, err
}

// ErrGone reports that the project has gone, and not only the connection to it.
var ErrGone = errors.New("the project is no longer running there")

// Version is that of the program on the far side; empty: it was not reached yet.
func (l *Link) Version() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.version
}

// Problem is why the stream could not be opened the last time; nil: it could.
func (l *Link) Problem() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.problem
}

// Begin opens the stream before the first request. It blocks until the far side has begun, for example as long as the
// user is asked for a password.
func (l *Link) Begin(ctx context.Context) error {
	c, err := l.dial(ctx)
	if err == nil {
		l.mu.Lock()
		l.begun = c
		l.mu.Unlock()
	}
	return err
}

func (l *Link) dial(ctx context.Context) (net.Conn, error) {
	l.mu.Lock()
	c := l.begun
	l.begun = nil
	l.mu.Unlock()
	if c != nil {
		return c, nil
	}
	c, err := l.open(ctx)
	l.mu.Lock()
	l.problem = err
	l.mu.Unlock()
	return c, err
}

func (l *Link) open(ctx context.Context) (net.Conn, error) {
	l.mu.Lock()
	again := l.opened
	l.mu.Unlock()
	stream, err := l.Open(ctx, again)
	if err != nil {
		return nil, err
	}
	in := bufio.NewReader(stream)
	version, err := greeting(in)
	if err != nil {
		stream.Close()
		return nil, err
	}
	l.mu.Lock()
	l.opened, l.version = true, version
	l.mu.Unlock()
	return newConn(struct {
		io.Reader
		io.WriteCloser
	}{in, stream}), nil
}

// greeting reads until the line with which the far side begins, and returns its version.
func greeting(in *bufio.Reader) (version string, err error) {
	for read := 0; read < maxNoise; {
		line, err := in.ReadString('\n')
		if err != nil {
			if errors.Is(err, io.EOF) {
				err = ErrNoBridge
			}
			return "", err
		}
		if _, version, is := strings.Cut(line, Greeting); is {
			return strings.TrimSpace(version), nil
		}
		read += len(line)
	}
	return "", ErrNoBridge
}

// Dial opens a connection to a port of the far machine. Only one of both directions may be closed by the other side.
func (l *Link) Dial(ctx context.Context, port int) (io.ReadWriteCloser, error) {
	from, to := io.Pipe()
	ctx, stop := context.WithCancel(ctx)
	url := fmt.Sprintf("http://omnivigil/forward?port=%d", port)
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, url, from)
	if err != nil {
		stop()
		return nil, err
	}
	answer, err := l.RoundTrip(r)
	if err == nil && answer.StatusCode != http.StatusOK {
		text, _ := io.ReadAll(io.LimitReader(answer.Body, 1<<10))
		answer.Body.Close()
		err = errors.New(strings.TrimSpace(string(text)))
	}
	if err != nil {
		stop()
		return nil, err
	}
	return &forwarded{answer.Body, to, stop}, nil
}

// forwarded is a connection to a port of the far machine.
type forwarded struct {
	io.Reader
	*io.PipeWriter
	stop func()
}

// Close closes both directions.
func (f *forwarded) Close() error {
	err := f.PipeWriter.Close()
	f.stop()
	return err
}

// CloseWrite ends what is sent.
func (f *forwarded) CloseWrite() error { return f.PipeWriter.Close() }

// Close closes the stream.
func (l *Link) Close() { l.transport().CloseIdleConnections() }
