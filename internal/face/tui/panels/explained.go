package panels

import (
	"context"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/view"
)

// Explained is the explanation of the selected unit's state, fetched while a view shows it.
type Explained struct {
	api.Explanation
	Problem string // why it could not be fetched; empty: it was
	unit    string
	number  int64 // of the snapshot that it was fetched for
	at      time.Time
	asking  bool
}

// explainedPause is the minimum time between two fetches for one unit.
const explainedPause = 500 * time.Millisecond

// Ask fetches the explanation when another unit is selected, or the project has changed.
func (e *Explained) Ask(m *view.Model) {
	unit, number := m.Selected, m.Live.Number
	same := e.unit == unit && (e.number == number || m.Now.Sub(e.at) < explainedPause)
	if e.asking || same || m.SelectedUnit() == nil {
		return
	}
	if e.unit != unit {
		e.Explanation, e.Problem = api.Explanation{}, ""
	}
	e.asking, e.unit, e.number, e.at = true, unit, number, m.Now
	m.Later(func(ctx context.Context) view.Then {
		got, err := m.Project.Explain(ctx, unit)
		return func() {
			if e.asking = false; err != nil {
				e.Problem = err.Error()
				return
			}
			e.Explanation, e.Problem = got, ""
		}
	})
}

// Known reports whether it is about the selected unit.
func (e *Explained) Known(m *view.Model) bool { return e.Unit == m.Selected }
