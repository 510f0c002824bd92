package timeline

import (
	"math"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/api"
)

var noon = time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)

// at returns a time some milliseconds after noon.
func at(ms int) time.Time { return noon.Add(time.Duration(ms) * time.Millisecond) }

func span(phase string, from, to int, on string) api.Span {
	s := api.Span{Phase: phase, From: at(from), On: on}
	if to > 0 {
		s.To = at(to)
	}
	return s
}

// fares is a save that is picked up by a task, and by a service that follows the task.
func fares(id, slower int, outcome api.Outcome) *api.Ripple {
	return &api.Ripple{
		ID:      id,
		Cause:   api.Cause{Kind: "change"},
		Since:   noon,
		RestAt:  at(1000 + slower),
		Outcome: outcome,
		Paths:   []string{"fares.csv"},
		Files:   1,
		Runs: []*api.RunRef{
			{Unit: "fares", Number: id, Because: "fares.csv changed", Took: api.Seconds(400 * time.Millisecond),
				Spans: []api.Span{span("debounce", 0, 100, ""), span("running", 100, 500+slower, "")}},
			{
				Unit:    "tickets",
				Number:  id,
				Because: "fares finished again",
				Took:    api.Seconds(300 * time.Millisecond),
				Failed:  outcome == api.EndedBroken,
				Spans: []api.Span{
					span("waiting", 100, 500+slower, "fares"),
					span("stopping", 500+slower, 503+slower, ""),
					span("starting", 503+slower, 1000+slower, ""),
				},
			},
		},
	}
}

// drawn renders a bar with one letter for each state.
func drawn(b Bar) string {
	letters := map[api.State]string{
		api.Idle:     " ",
		Debounce:     "_",
		Queued:       ":",
		api.Waiting:  ".",
		api.Stopping: "-",
		api.Setup:    "s",
		api.Starting: "a",
		api.Running:  "#",
		api.Failed:   "/",
	}
	var out strings.Builder
	for _, c := range b.Cells {
		out.WriteString(letters[c.State])
	}
	return out.String()
}

func TestWaterfall(t *testing.T) {
	for _, test := range []struct {
		name   string
		ripple *api.Ripple
		bars   []string
	}{
		{"well", fares(7, 0, api.EndedCurrent), []string{"__###########             ", "  ..........-aaaaaaaaaaaaa"}},
		{"failed", fares(7, 0, api.EndedBroken), []string{"__###########             ", "  ..........-aaaaaaaaaaaa/"}},
		{"open", func() *api.Ripple {
			r := fares(7, 0, api.Open)
			r.RestAt, r.Runs[1].Spans = time.Time{}, []api.Span{span("waiting", 100, 0, "fares")}
			return r
		}(), []string{"__###########             ", "  ........................"}},
		{"forgotten", func() *api.Ripple {
			r := fares(7, 0, api.EndedCurrent)
			r.Runs[0].Spans = nil
			return r
		}(), []string{"                          ", "  ..........-aaaaaaaaaaaaa"}},
	} {
		t.Run(test.name, func(t *testing.T) {
			w := WaterfallOf(test.ripple, at(1000), 26)
			require.Len(t, w.Bars, 2)
			for i, want := range test.bars {
				assert.Equal(t, want, drawn(w.Bars[i]))
			}
			if test.name == "well" {
				assert.Equal(t, "because fares finished again, waited 0.40 s for fares", w.Bars[1].Reason())
				assert.Equal(t, 900*time.Millisecond, w.Bars[1].Took())
				assert.Contains(t, drawn(w.Bars[1]), "-", "what is shorter than a column is not lost")
			}
			assert.Equal(t, test.name == "open", w.Bars[1].Open)
		})
	}
	assert.Equal(
		t,
		100*time.Millisecond,
		WaterfallOf(&api.Ripple{Since: noon, RestAt: noon, Outcome: api.EndedCurrent}, noon, 10).Axis.Span().Round(
			time.Millisecond,
		),
	)
}

func TestCompare(t *testing.T) {
	before, now := fares(3, 0, api.EndedCurrent), fares(7, 250, api.EndedCurrent)
	other := fares(5, 0, api.EndedCurrent)
	other.Paths = []string{"rules.toml"}
	all := []*api.Ripple{fares(2, 0, api.EndedCurrent), before, other, fares(6, 0, api.Open), now}
	assert.Same(t, before, Earlier(all, now))
	assert.Nil(t, Earlier(all, other))
	assert.Equal(t, []Difference{
		{"fares", "running", 400 * time.Millisecond, 650 * time.Millisecond},
		{"tickets", "waiting", 400 * time.Millisecond, 650 * time.Millisecond},
	}, Compare(before, now))
	assert.Empty(t, Compare(now, now))
}

func TestChart(t *testing.T) {
	a := Axis{Start: noon, Column: time.Second, N: 10}
	snap := &api.Snapshot{
		Units:   []*api.Unit{{Name: "tides"}, {Name: "idle"}},
		Ripples: []*api.Ripple{fares(1, 0, api.EndedCurrent), fares(2, 2500, api.EndedBroken)},
	}
	snap.Ripples[1].Since = at(4000)
	var s Series
	for _, one := range []struct {
		ms     int
		cpu    float64
		memory int64
		output int64
	}{{1500, 0.5, 100, 10}, {1700, 0.25, 300, 10}, {4200, 0, 50, 30}, {4400, 0, 0, 30}} {
		s.Add([]api.Sample{{At: at(one.ms), Unit: "tides", CPU: one.cpu, Memory: one.memory, Output: one.output}})
	}
	no := math.NaN()
	for measure, want := range map[Measure][]float64{
		CPU:    {no, 0.5, 0.25, 0.25, 0.25, 0, 0, 0, no, no},
		Memory: {no, 300, 300, 300, 300, 0, 0, 0, no, no},
		Output: {no, 0, 0, 0, 20, 0, 0, 0, no, no},
		Rest:   {1, no, no, no, 0.5 + 3 - 4, no, no, no, no, no},
	} {
		if measure == Rest { // its second ripple came four seconds later
			want[4] = snap.Ripples[1].RestAt.Sub(at(4000)).Seconds()
		}
		graphs := ChartOf(measure, snap, &s, a, at(7100))
		require.Len(t, graphs, 1, measure)
		full := map[Measure]float64{CPU: 0.5, Memory: 16 << 20, Output: 1 << 10, Rest: 1}
		assert.Equal(t, full[measure], graphs[0].Full)
		for i, v := range want {
			if math.IsNaN(v) {
				assert.True(t, math.IsNaN(graphs[0].Values[i]), "%s %d: %v", measure, i, graphs[0].Values[i])
			} else {
				assert.InDelta(t, v, graphs[0].Values[i], 1e-9, "%s %d", measure, i)
			}
		}
	}
	snap.Units = []*api.Unit{{Name: "tickets"}, {Name: "fares"}}
	graphs := ChartOf(Durations, snap, &s, a, at(7100))
	require.Len(t, graphs, 2)
	assert.True(t, graphs[0].Failed[3])
	assert.Equal(t, 0.3, graphs[0].Last)

	runs := Runs(snap, "tickets", 5)
	require.Len(t, runs, 2)
	assert.Equal(t, "fares finished again", runs[1].Because)
	assert.Equal(t, 2, runs[1].Ripple)
}

func TestSeriesIsBounded(t *testing.T) {
	var s Series
	for i := range 3 * maxSamples {
		s.Add([]api.Sample{{At: at(i), Unit: "tides", Memory: 1}})
	}
	assert.LessOrEqual(t, len(s.of["tides"]), maxSamples)
	assert.Equal(t, at(0), s.of["tides"][0].At)
	assert.Equal(t, at(3*maxSamples-1), s.of["tides"][len(s.of["tides"])-1].At)
}

func TestLevel(t *testing.T) {
	for _, test := range []struct {
		v, most float64
		want    int
	}{{0, 10, 0}, {math.NaN(), 10, 0}, {0.01, 10, 1}, {5, 10, 4}, {10, 10, 8}, {11, 10, 8}, {1, 0, 0}} {
		assert.Equal(t, test.want, Level(test.v, test.most, 8), test)
	}
}
