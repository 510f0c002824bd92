package verdicts

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"omnivigil/internal/api"
)

// TestHistory asks for verdicts at times, and for turns: a rest that is bad after a good one, whatever was updating in
// between.
func TestHistory(t *testing.T) {
	var h History
	at := func(second int) time.Time { return time.Unix(int64(second), 0) }
	_, known := h.Find(api.VerdictQuery{At: at(5)})
	assert.False(t, known)
	for i, word := range []api.VerdictWord{
		api.VerdictUpdating, api.VerdictCurrent, api.VerdictCurrent, api.VerdictUpdating, api.VerdictBroken,
		api.VerdictUpdating, api.VerdictStale, api.VerdictUpdating, api.VerdictCurrent, api.VerdictStopped,
	} {
		h.Add(at(i), api.Verdict{Word: word})
	}
	for _, c := range []struct {
		at     int
		turned api.Turn
		want   int // the second; below 0: unknown
	}{
		{-1, "", -1}, {0, "", 0}, {2, "", 1}, {4, "", 4}, {100, "", 9},
		{3, api.TurnedBad, -1}, {4, api.TurnedBad, 4}, {7, api.TurnedBad, 4}, {100, api.TurnedBad, 4},
		{7, api.TurnedGood, -1}, {8, api.TurnedGood, 8}, {100, api.TurnedGood, 8},
	} {
		v, known := h.Find(api.VerdictQuery{At: at(c.at), Turned: c.turned})
		assert.Equal(t, c.want >= 0, known, "%v", c)
		if known {
			assert.Equal(t, at(c.want), v.At, "%v", c)
		}
	}
	for i := range 3 * kept {
		h.Add(at(100+i), api.Verdict{Text: time.Duration(i).String()})
	}
	assert.LessOrEqual(t, len(h.all), 2*kept)
	newest, _ := h.Find(api.VerdictQuery{})
	assert.Equal(t, at(100+3*kept-1), newest.At)
}
