package recording

import (
	"bytes"
	"os"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/engine"
	"omnivigil/internal/engine/simulate"
	"omnivigil/internal/plan"
)

// record plays part of a project's life and returns the recording.
func record(t *testing.T) string {
	t.Helper()
	p := &plan.Plan{Name: "ferries", Units: []*plan.Unit{
		{
			Name: "fares",
			Kind: plan.Task,
			Run:  plan.Command{Words: []string{"fares", "hunter2"}, Written: []string{"fares", "${TOKEN}"}},
			Env:  []plan.Variable{{Name: "TOKEN", Value: "hunter2", File: ".env"}},
		},
		{Name: "berths", Run: plan.Command{Shell: "berths"}, Needs: []string{"fares"}, Follows: []string{"fares"},
			Ready: plan.Ready{Port: 1, Within: time.Second}, Stop: plan.Stop{Signal: "TERM", Grace: time.Second},
			Reactions: []plan.Reaction{{When: plan.Pattern{Text: "*"}, Do: plan.SendSignal, Signal: "HUP"}}},
	}}
	var out bytes.Buffer
	r, err := NewRecorder(&out, p)
	require.NoError(t, err)
	w := simulate.NewWorld(p, func(string, int) simulate.Behavior {
		return simulate.Behavior{
			ReadyAfter: time.Millisecond,
			EndsAfter:  10 * time.Second,
			StopTakes:  time.Millisecond,
		}
	})
	w.After = func(ev engine.Event, orders []engine.Order) { require.NoError(t, r.Step(w.Moment(), ev, orders)) }
	w.Send(engine.Begin{})
	w.Run(15 * time.Second)
	w.Save(
		simulate.Saving{Debounce: time.Millisecond},
		engine.Hit{
			Unit:     "berths",
			Path:     "a",
			What:     "written",
			Rule:     "*",
			Reaction: 1,
			Captures: map[string]string{"x": "y"},
		},
	)
	w.Run(time.Second)
	w.Send(engine.Requested{Request: engine.RestartUnit, Units: []string{"berths"}})
	w.Run(time.Minute)
	edited := *p
	edited.Units = p.Units[:1]
	w.Send(engine.PlanBroken{Problem: "line 1"})
	w.Send(engine.NewPlan{Plan: &edited})
	w.Run(time.Minute)
	return out.String()
}

func TestReplayGivesTheSameOrders(t *testing.T) {
	recorded := record(t)
	steps := 0
	require.NoError(t, Replay(strings.NewReader(recorded), func(Played) { steps++ }))
	assert.Equal(t, strings.Count(recorded, "\n")-1, steps)
	assert.NotContains(t, recorded, "hunter2", "values of variables stay out")
	assert.True(t, strings.Contains(recorded, "SendSignal {Unit:berths"), "every kind of order is in it")
}

// TestEveryEventIsKnown reads the names of the events in the engine's source.
func TestEveryEventIsKnown(t *testing.T) {
	source, err := os.ReadFile("../events.go")
	require.NoError(t, err)
	events := regexp.MustCompile(`func \((\w+)\) event\(\)`).FindAllSubmatch(source, -1)
	assert.Len(t, events, len(kinds))
	for _, ev := range events {
		assert.Contains(t, kinds, string(ev[1]))
	}
}

func TestReplayTellsWhatIsWrong(t *testing.T) {
	recorded := record(t)
	for _, test := range []struct{ name, in, want string }{
		{"another order", strings.Replace(recorded, "Start {Unit:fares", "Start {Unit:tides", 1),
			"line 2: the engine orders something else"},
		{"no recording", "{}\n", "line 1: it has no plan"},
		{"an unknown event", strings.Replace(recorded, `"Begin"`, `"Beginn"`, 1), `line 2: there is no event "Beginn"`},
		{"no JSON", recorded + "oops\n", "invalid character 'o'"},
	} {
		t.Run(test.name, func(t *testing.T) {
			err := Replay(strings.NewReader(test.in), func(Played) {})
			assert.ErrorContains(t, err, test.want)
		})
	}
}
