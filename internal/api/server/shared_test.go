package server

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"

	"omnivigil/internal/api"
)

// TestShared makes each answer once, unless that fails or it was asked for long ago.
func TestShared(t *testing.T) {
	var s shared
	made := 0
	ask := func(key string, err error) string {
		data, got := s.get(key, func() ([]byte, error) {
			made++
			return []byte(key), err
		})
		assert.Equal(t, err, got)
		return string(data)
	}
	gone := errors.New("gone")
	for range 3 {
		assert.Equal(t, "a", ask("a", nil))
	}
	assert.Equal(t, 1, made)
	ask("b", gone)
	assert.Equal(t, "b", ask("b", nil), "whoever has asked first is gone")
	assert.Equal(t, 3, made)
	large := strings.Repeat("x", largestShared+1)
	ask(large, nil)
	ask(large, nil)
	assert.Equal(t, 5, made, "it is not kept")
	for n := range 2 * len(s.recent) {
		ask(fmt.Sprint(n), nil)
	}
	made = 0
	assert.Equal(t, "a", ask("a", nil))
	assert.Equal(t, 1, made)
}

// growing is a project that writes lines until it ends.
type growing struct {
	still
	mu    sync.Mutex
	lines int64
	ended bool
}

func (g *growing) state() *api.Snapshot {
	g.mu.Lock()
	defer g.mu.Unlock()
	s := &api.Snapshot{}
	s.Number, s.Lines, s.Ended = g.lines+1, g.lines, g.ended
	if g.ended {
		s.Number++
	}
	return s
}

func (g *growing) Follow(_ context.Context, _ api.Face, show func(*api.Snapshot) error) error {
	for {
		s := g.state()
		if err := show(s); err != nil || s.Ended {
			return err
		}
		runtime.Gosched()
	}
}

func (g *growing) Lines(_ context.Context, q api.LineQuery) (api.Page, error) {
	end := g.state().Lines
	if q.To > 0 {
		end = min(end, q.To)
	}
	page := api.Page{From: q.From, End: max(end, q.From)}
	for n := q.From; n < end; n++ {
		page.Lines = append(page.Lines, api.Line{Number: n})
	}
	return page, nil
}

// TestFollowers tells several faces that follow the log every line once.
func TestFollowers(t *testing.T) {
	g := &growing{}
	c := at(t, g)
	const faces, lines = 5, 2_000
	var done sync.WaitGroup
	for range faces {
		done.Go(func() {
			var next int64
			assert.NoError(t, api.FollowLines(t.Context(), c, api.LineQuery{}, func(page []api.Line) error {
				for _, l := range page {
					assert.Equal(t, next, l.Number)
					next++
				}
				return nil
			}))
			assert.EqualValues(t, lines, next)
		})
	}
	for n := range int64(lines) {
		g.mu.Lock()
		g.lines = n + 1
		g.mu.Unlock()
		runtime.Gosched()
	}
	g.mu.Lock()
	g.ended = true
	g.mu.Unlock()
	done.Wait()
}
