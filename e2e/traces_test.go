package e2e

import (
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.opentelemetry.io/collector/pdata/ptrace"
)

// spansIn are the spans in lines of OTLP, by their names, with the newest last.
func spansIn(t *testing.T, lines string) map[string]ptrace.Span {
	all := map[string]ptrace.Span{}
	for line := range strings.Lines(lines) {
		traces, err := (&ptrace.JSONUnmarshaler{}).UnmarshalTraces([]byte(line))
		require.NoError(t, err, line)
		spans := traces.ResourceSpans().At(0).ScopeSpans().At(0).Spans()
		for i := range spans.Len() {
			all[spans.At(i).Name()] = spans.At(i)
		}
	}
	return all
}

// TestTraces sends the ripples of a project to a receiver, exports the same ones, and has a process join its span.
func TestTraces(t *testing.T) {
	t.Parallel()
	var mu sync.Mutex
	received := ""
	server := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		data, _ := io.ReadAll(r.Body)
		mu.Lock()
		defer mu.Unlock()
		received += string(data) + "\n"
	}))
	t.Cleanup(server.Close)
	dir, state, config := t.TempDir(), t.TempDir(), t.TempDir()
	write := func(file, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
	}
	write(filepath.Join(dir, "omnivigil.toml"), `[task.fares]
run = "echo $TRACEPARENT > parent; sleep 0.1"
watch = ["fares.csv"]
[task.own]
run = "echo $TRACEPARENT > own"
env = { TRACEPARENT = "mine" }
`)
	env := []string{"XDG_STATE_HOME=" + state, "XDG_CONFIG_HOME=" + config}
	does := func(words ...string) string {
		out, err := command(env, dir, words...)
		require.NoError(t, err, out)
		return out
	}
	t.Cleanup(func() { command(env, dir, "stop", "--all") })
	does("start", "--background", "--trust")
	does("wait")
	none, err := os.ReadFile(filepath.Join(dir, "parent"))
	require.NoError(t, err)
	assert.Equal(t, "\n", string(none), "nothing is traced without a receiver")
	does("stop", "--all")

	write(filepath.Join(config, "omnivigil/config.toml"), `traces = "`+server.URL+`"`)
	does("start", "--background", "--trust")
	does("wait")
	write(filepath.Join(dir, "fares.csv"), "low")
	does("wait")
	exported := spansIn(t, does("export", "traces"))
	parent, err := os.ReadFile(filepath.Join(dir, "parent"))
	require.NoError(t, err)
	run := exported["fares"]
	assert.Equal(t, "00-"+run.TraceID().String()+"-"+run.SpanID().String()+"-01\n", string(parent))
	assert.Contains(t, exported, "debounce")
	assert.Contains(t, exported, "running")
	own, err := os.ReadFile(filepath.Join(dir, "own"))
	require.NoError(t, err)
	assert.Equal(t, "mine\n", string(own))
	require.True(t, holds(patience, func() bool {
		mu.Lock()
		defer mu.Unlock()
		return strings.Contains(received, run.SpanID().String())
	}))
	mu.Lock()
	assert.Equal(t, run.Attributes().AsRaw(), spansIn(t, received)["fares"].Attributes().AsRaw())
	mu.Unlock()
}
