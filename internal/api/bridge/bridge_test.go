package bridge

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// quay is a project's socket, and the bridges to it.
type quay struct {
	*testing.T
	project *httptest.Server
	gone    atomic.Bool
	opened  []bool // whether each stream was opened again
	last    net.Conn
	noise   string // before the greeting
}

func openQuay(t *testing.T) (*quay, *Link) {
	q := &quay{T: t}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /hello", func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprint(w, "tide ", r.URL.Query().Get("at"))
	})
	mux.HandleFunc("POST /say", func(w http.ResponseWriter, r *http.Request) { io.Copy(w, r.Body) })
	mux.HandleFunc("GET /events", func(w http.ResponseWriter, r *http.Request) {
		for n := 0; r.Context().Err() == nil; n++ {
			fmt.Fprintln(w, n)
			w.(http.Flusher).Flush()
			time.Sleep(time.Millisecond)
		}
	})
	q.project = httptest.NewServer(mux)
	t.Cleanup(q.project.Close)
	return q, &Link{Open: q.open}
}

func (q *quay) open(_ context.Context, again bool) (io.ReadWriteCloser, error) {
	here, there := net.Pipe()
	q.opened, q.last = append(q.opened, again), here
	dial := func(ctx context.Context) (net.Conn, error) {
		if q.gone.Load() {
			return nil, errors.New("nothing listens there")
		}
		return (&net.Dialer{}).DialContext(ctx, "tcp", q.project.Listener.Addr().String())
	}
	go func() {
		io.WriteString(there, q.noise)
		Serve(there, dial, "1.2")
	}()
	return here, nil
}

func (q *quay) get(link *Link, path string) (string, error) {
	answer, err := (&http.Client{Transport: link}).Get("http://omnivigil" + path)
	if err != nil {
		return "", err
	}
	defer answer.Body.Close()
	data, err := io.ReadAll(answer.Body)
	return string(data), err
}

// TestBridge carries requests over one stream, and over another one after the first was lost.
func TestBridge(t *testing.T) {
	q, link := openQuay(t)
	q.noise = "Welcome to the harbour.\nYou have mail.\n"
	require.NoError(t, link.Begin(t.Context()))
	assert.Equal(t, "1.2", link.Version())
	for range 3 {
		text, err := q.get(link, "/hello?at=noon")
		require.NoError(t, err)
		assert.Equal(t, "tide noon", text)
	}
	assert.Equal(t, "1.2", link.Version())
	answer, err := (&http.Client{Transport: link}).Post("http://omnivigil/say", "text/plain", strings.NewReader("ebb"))
	require.NoError(t, err)
	data, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	assert.Equal(t, "ebb", string(data))

	// Events arrive one by one, next to other requests; and end when the stream does.
	events, err := (&http.Client{Transport: link}).Get("http://omnivigil/events")
	require.NoError(t, err)
	_, err = io.ReadFull(events.Body, make([]byte, 10))
	require.NoError(t, err)
	_, err = q.get(link, "/hello")
	require.NoError(t, err)
	q.last.Close()
	_, err = io.Copy(io.Discard, events.Body)
	require.Error(t, err)
	require.Eventually(t, func() bool {
		_, err := q.get(link, "/hello")
		return err == nil
	}, time.Minute, time.Millisecond)
	assert.Equal(t, []bool{false, true}, q.opened)

	q.gone.Store(true)
	q.project.CloseClientConnections()
	_, err = q.get(link, "/hello")
	require.ErrorIs(t, err, ErrGone)
}

// TestNoBridge reaches something else.
func TestNoBridge(t *testing.T) {
	for name, text := range map[string]string{
		"nothing": "", "a shell": "sh: omnivigil: not found\n", "noise": strings.Repeat("tide\n", maxNoise),
		"no line": "tide",
	} {
		t.Run(name, func(t *testing.T) {
			link := &Link{Open: func(context.Context, bool) (io.ReadWriteCloser, error) {
				here, there := net.Pipe()
				go func() {
					io.WriteString(there, text)
					there.Close()
				}()
				return here, nil
			}}
			_, err := (&http.Client{Transport: link}).Get("http://omnivigil/hello")
			require.ErrorIs(t, err, ErrNoBridge)
			require.ErrorIs(t, link.Problem(), ErrNoBridge)
		})
	}
}

// TestForward connects to a port of the other machine.
func TestForward(t *testing.T) {
	_, link := openQuay(t)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	go func() {
		c, err := l.Accept()
		if err == nil {
			io.Copy(c, c)
			c.Close()
		}
	}()
	c, err := link.Dial(t.Context(), l.Addr().(*net.TCPAddr).Port)
	require.NoError(t, err)
	defer c.Close()
	for _, text := range []string{"ebb", "flood"} {
		_, err = io.WriteString(c, text)
		require.NoError(t, err)
		got := make([]byte, len(text))
		_, err = io.ReadFull(c, got)
		require.NoError(t, err)
		assert.Equal(t, text, string(got))
	}
	require.NoError(t, c.(interface{ CloseWrite() error }).CloseWrite())
	_, err = io.ReadAll(c)
	require.NoError(t, err)
	l.Close()
	_, err = link.Dial(t.Context(), l.Addr().(*net.TCPAddr).Port)
	require.ErrorContains(t, err, "refused")
}
