package probe

import (
	"context"
	"errors"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/plan"
)

func TestTries(t *testing.T) {
	status := http.StatusServiceUnavailable
	server := httptest.NewTLSServer(
		http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(status) }),
	)
	defer server.Close()
	at, err := url.Parse(server.URL)
	require.NoError(t, err)
	port, err := strconv.Atoi(at.Port())
	require.NoError(t, err)

	try := func(r plan.Ready) error { return New(r).try(t.Context()) }
	assert.NoError(t, try(plan.Ready{Port: port}))
	assert.ErrorContains(t, try(plan.Ready{HTTP: server.URL}), "certificate")
	assert.EqualError(t, try(plan.Ready{HTTP: server.URL, Insecure: true}), "status 503 Service Unavailable")
	status = http.StatusFound
	assert.NoError(t, try(plan.Ready{HTTP: server.URL, Insecure: true}), "a redirect is an answer")
	server.Close()
	assert.EqualError(t, try(plan.Ready{Port: port}), "connection refused")
	assert.Nil(t, New(plan.Ready{Line: "up"}))
}

// TestFile detects a file that was written within the same tick as the start.
func TestFile(t *testing.T) {
	file := filepath.Join(t.TempDir(), "ready")
	for range 50 {
		p := New(plan.Ready{File: file})
		require.Error(t, p.try(t.Context()))
		require.NoError(t, os.WriteFile(file, []byte("up"), 0o600))
		require.NoError(t, p.try(t.Context()))
		old := New(plan.Ready{File: file})
		require.EqualError(t, old.try(t.Context()), "it is older than the start")
		require.NoError(t, os.Remove(file))
	}
}

func TestWait(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		tries, began := 0, time.Now()
		p := New(plan.Ready{Run: &plan.Command{Shell: "true"}})
		p.Run = func(context.Context, plan.Command) error {
			if tries++; tries < 20 {
				return errors.New("exit 1")
			}
			return nil
		}
		var said []string
		assert.True(t, p.Wait(t.Context(), func(saw string) { said = append(said, saw) }))
		assert.Equal(t, []string{"exit 1"}, said, "said once")
		assert.Less(t, time.Since(began), 8*time.Second)

		ctx, stop := context.WithTimeout(t.Context(), time.Second)
		defer stop()
		tries = -1000
		assert.False(t, p.Wait(ctx, func(string) {}))
	})
}

// TestRepeat reports the second failed check in a row, and the first good one after that.
func TestRepeat(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ctx, stop := context.WithCancel(t.Context())
		results, seen := []string{"", "down", "", "down", "down", "still down", ""}, []string{}
		p := &Prober{try: func(context.Context) error {
			if len(results) == 0 {
				stop()
				return nil
			}
			one := results[0]
			if results = results[1:]; one != "" {
				return errors.New(one)
			}
			return nil
		}}
		p.Repeat(ctx, 10*time.Second, func(problem string) { seen = append(seen, problem) })
		assert.Equal(t, []string{"down", ""}, seen)
	})
}
