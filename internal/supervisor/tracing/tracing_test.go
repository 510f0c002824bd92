package tracing

import (
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.opentelemetry.io/collector/pdata/ptrace"

	"omnivigil/internal/api"
)

// sea is a project with ripples.
type sea struct{ ripples int }

func (s sea) Subscribe(_ context.Context, since int64, hear func(api.Fact) error) error {
	if err := hear(api.Fact{ID: since + 1, Kind: "run-started"}); err != nil {
		return err
	}
	for n := range s.ripples {
		was := &api.Ripple{ID: n + 1, Outcome: api.EndedCurrent, Since: time.Unix(1, 0), RestAt: time.Unix(2, 0)}
		f := api.Fact{ID: since + int64(n) + 1, Kind: "ripple-rested", Ripple: n + 1, RippleWas: was}
		if err := hear(f); err != nil {
			return err
		}
	}
	return nil
}

// Snapshot returns a state from before any ripple, as it may be when a fact is new.
func (s sea) Snapshot(context.Context) (*api.Snapshot, error) {
	return &api.Snapshot{Project: api.About{Name: "Sea", Session: "1"}}, nil
}

// TestExporter sends ripples to receivers that take them, refuse them, or take too long.
func TestExporter(t *testing.T) {
	for name, test := range map[string]struct {
		ripples int
		answer  func(w http.ResponseWriter, r *http.Request)
		notes   []string
	}{
		"takes them": {3, func(http.ResponseWriter, *http.Request) {}, nil},
		"refuses": {3, func(w http.ResponseWriter, _ *http.Request) { http.Error(w, "no", http.StatusForbidden) },
			[]string{"403 Forbidden", "3 ripples not sent"}},
		"hangs": {maxWaiting + 20, func(_ http.ResponseWriter, r *http.Request) { <-r.Context().Done() },
			[]string{"ripples are not sent", "ripples not sent", "it is too slow"}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			var mu sync.Mutex
			var notes []string
			got := 0
			server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				data, _ := io.ReadAll(r.Body)
				traces, err := (&ptrace.JSONUnmarshaler{}).UnmarshalTraces(data)
				mu.Lock()
				if err == nil && r.URL.Path == "/v1/traces" {
					got += traces.SpanCount()
				}
				mu.Unlock()
				test.answer(w, r)
			}))
			defer server.Close()
			e := &Exporter{URL: server.URL + "/", Project: sea{test.ripples}, Note: func(text string) {
				mu.Lock()
				defer mu.Unlock()
				notes = append(notes, text)
			}}
			e.Follow(t.Context())
			mu.Lock()
			defer mu.Unlock()
			require.Len(t, notes, len(test.notes))
			for i, note := range test.notes {
				assert.Contains(t, strings.Join(notes, "\n"), note, i)
			}
			if test.notes == nil {
				assert.Equal(t, test.ripples, got)
			}
		})
	}
}
