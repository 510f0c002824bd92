package tui

import (
	"fmt"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"

	"omnivigil/internal/api"
)

func BenchmarkScreen(b *testing.B) {
	m, _ := play(b, 20, 158, 46)
	for b.Loop() {
		m.screen()
	}
}

// longDay is a project of 60 units after many saves, each of which ran three of them.
func longDay(saves int) *api.Snapshot {
	end := time.Date(2026, 3, 1, 18, 0, 0, 0, time.UTC)
	snap := &api.Snapshot{
		At:      end,
		Project: api.About{Name: "Saltmarsh Ferries", Since: end.Add(-time.Duration(saves+1) * 3 * time.Second)},
		Uses:    map[string]api.Use{},
	}
	for i := range 60 {
		u := &api.Unit{
			Name:      fmt.Sprintf("unit%d", i),
			Kind:      "service",
			State:     api.Ready,
			Freshness: api.Current,
			Wanted:    true,
		}
		if i > 3 {
			u.Needs = []string{fmt.Sprintf("unit%d", i/2)}
		}
		snap.Units, snap.Uses[u.Name] = append(snap.Units, u), api.Use{Memory: 20 << 20}
	}
	for i := range saves {
		at := end.Add(-time.Duration(saves-i) * 3 * time.Second)
		snap.Saves = append(snap.Saves, api.Save{At: at, Ripple: i + 1})
		r := &api.Ripple{
			ID:      i + 1,
			Cause:   api.Cause{Kind: "change"},
			Title:   "main.go",
			Since:   at,
			RestAt:  at.Add(time.Second),
			Outcome: api.EndedCurrent,
		}
		for k := range 3 {
			u := snap.Units[(i*3+k)%60]
			u.Run.Number++
			u.Marks = append(
				u.Marks,
				api.Mark{At: at, State: api.Starting, Run: u.Run.Number},
				api.Mark{At: at.Add(time.Second), State: api.Ready, Run: u.Run.Number},
			)
			r.Runs = append(
				r.Runs,
				&api.RunRef{
					Unit:   u.Name,
					Number: u.Run.Number,
					Took:   api.Seconds(time.Second),
					Spans:  []api.Span{{Phase: "starting", From: at, To: at.Add(time.Second)}},
				},
			)
		}
		snap.Ripples = append(snap.Ripples, r)
	}
	snap.Ripples = snap.Ripples[max(len(snap.Ripples)-300, 0):] // as many as the engine keeps
	return snap
}

// BenchmarkFrame draws each view of 60 units after ten saves and after ten thousand, each time at a different time,
// so that nothing can be reused from the previous frame.
func BenchmarkFrame(b *testing.B) {
	for _, view := range []string{"L", "R", "U", "M", "C"} {
		for _, saves := range []int{10, 10_000} {
			b.Run(fmt.Sprintf("%s/saves=%d", view, saves), func(b *testing.B) {
				snap := longDay(saves)
				p := &played{detail: whole(snap.At), samples: used(snap.At)}
				m := newRoot(b.Context(), p, snap)
				m.Now = snap.At
				m.handle(tea.WindowSizeMsg{Width: 158, Height: 46})
				m.press(key(view))
				m.Samples.Series.Add(p.samples)
				for b.Loop() {
					m.Now = m.Now.Add(400 * time.Millisecond)
					m.screen()
				}
			})
		}
	}
}
