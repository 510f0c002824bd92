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
