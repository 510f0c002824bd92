package timeline

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"omnivigil/internal/api"
)

func TestAxis(t *testing.T) {
	end := time.Date(2026, 3, 1, 12, 0, 30, 250e6, time.UTC)
	a := To(end, time.Minute, 60)
	assert.Equal(t, time.Second, a.Column)
	assert.Equal(t, 59, a.At(end))
	assert.Equal(
		t,
		a.Start,
		To(end.Add(500*time.Millisecond), time.Minute, 60).Start,
		"what was drawn stays until a column is full",
	)
	ticks := a.Ticks(12)
	assert.Equal(t, []int{45, 0, 15}, []int{ticks[0].Second(), ticks[1].Second(), ticks[2].Second()})

	// Between two sessions, an hour is left out.
	skips := &Skips{{From: end.Add(-time.Hour - 10*time.Second), To: end.Add(-10 * time.Second)}}
	a = Skipping(skips, end, 0, time.Minute, 60)
	assert.Equal(t, 59, a.At(end))
	assert.Equal(t, []Bound{{49, (*skips)[0]}}, a.Bounds())
	before := end.Add(-time.Hour - 20*time.Second)
	assert.Equal(t, 39, a.At(before), "ten columns before the end of the first one")
	for column := range a.N {
		assert.Equal(t, column, a.At(a.Time(column)))
	}
	assert.Equal(t, (*skips)[0].From, skips.Leave(end.Add(-time.Minute)))
	for _, tick := range a.Ticks(5) {
		assert.Equal(t, tick, skips.Leave(tick))
	}
	assert.Equal(t, time.Second, Skipping(skips, before, 30*time.Second, time.Minute, 60).Column)

	a = To(end, time.Minute, 60)
	marks := []api.Mark{
		{At: end.Add(-20 * time.Second), State: api.Ready},
		{At: end.Add(-10 * time.Second), State: api.Crashed},
		{At: end.Add(-10*time.Second + time.Millisecond), State: api.Ready, Stale: true},
	}
	cells := LaneOf(marks, a, end).Cells
	assert.Equal(t, api.Idle, cells[0].State)
	assert.Equal(t, Cell{api.Ready, false}, cells[45])
	assert.Equal(t, api.Crashed, cells[49].State, "what lasts for less than a column is not lost")
	assert.Equal(t, Cell{api.Ready, true}, cells[55])
}
