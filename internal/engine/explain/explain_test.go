package explain_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"omnivigil/internal/engine"
	"omnivigil/internal/engine/explain"
	"omnivigil/internal/plan"
)

func TestCrashInWords(t *testing.T) {
	for want, x := range map[string]engine.Exit{
		"crashed: ended by itself (exit 0) after 2.00 s":         {},
		"crashed: exit 3 after 2.00 s":                           {Code: 3},
		"crashed: exit 127, command not found? after 2.00 s":     {Code: 127},
		"crashed: killed (SIGKILL), out of memory? after 2.00 s": {Code: -1, Signal: "SIGKILL"},
		"crashed: segmentation fault (SIGSEGV) after 2.00 s":     {Code: -1, Signal: "SIGSEGV"},
		"crashed: SIGXFSZ after 2.00 s":                          {Code: -1, Signal: "SIGXFSZ"},
	} {
		ready := engine.Moment{Wall: time.Unix(1, 0)}
		end := &engine.End{State: engine.Crashed, Exit: &x, Lived: 2 * time.Second, ReadyAt: ready}
		assert.Equal(t, want, explain.Fact(engine.Fact{Kind: engine.FactRunEnded, Over: engine.Over{End: end}}))
	}
}

func TestReasons(t *testing.T) {
	files := func(count int, what string, names ...string) engine.Reason {
		return engine.Reason{Kind: engine.ReasonFiles, Files: names, Count: count, What: what}
	}
	for want, r := range map[string]engine.Reason{
		"a changed":                         files(1, "written", "a"),
		"a was removed":                     files(1, "removed", "a"),
		"a may have changed":                files(1, engine.Missed, "a"),
		"a and b changed":                   files(2, "", "a", "b"),
		"a, b and 2 more changed":           files(4, "", "a", "b"),
		"it crashed, once":                  {Kind: engine.ReasonCrashedOften, Count: 1},
		"it crashed, 3 times":               {Kind: engine.ReasonCrashedOften, Count: 3},
		"fares finished again":              {Kind: engine.ReasonFollowed, Unit: "fares", Ends: true},
		"fares is ready again":              {Kind: engine.ReasonFollowed, Unit: "fares"},
		"you asked to restart everything":   {Kind: engine.ReasonAskedRestart},
		"you asked to restart api and web":  {Kind: engine.ReasonAskedRestart, Units: []string{"api", "web"}},
		"you took the added arguments away": {Kind: engine.ReasonArguments},
		"you added -run 'Two Words'": {Kind: engine.ReasonArguments,
			Words: []string{"-run", "Two Words"}},
		"all reactions resumed":                    {Kind: engine.ReasonResumed},
		"api: some tests passed, so all run again": {Kind: engine.ReasonNarrowPassed, Unit: "api"},
	} {
		assert.Equal(t, want, explain.Reason(r))
	}
}

// TestEveryKindHasWords requires a text of its own for every kind of reason, fact, block and refusal.
func TestEveryKindHasWords(t *testing.T) {
	texts := map[string]engine.ReasonKind{}
	for kind := engine.ReasonNone + 1; kind <= engine.ReasonResumed; kind++ {
		r := engine.Reason{Kind: kind, Unit: "api", Units: []string{"web"}, Files: []string{"a.go"}, Count: 1,
			Text: "its tests"}
		r.End = &engine.End{State: engine.Failed, Exit: &engine.Exit{Code: 2}}
		r.Settings = &plan.Difference{Added: []string{"fares"}}
		text := explain.Reason(r)
		assert.NotEmpty(t, text)
		if kind == engine.ReasonReadyAgain {
			continue // reads as ReasonFollowed does for a service
		}
		assert.NotContains(t, texts, text, "kinds %d and %d", texts[text], kind)
		texts[text] = kind
	}
	blocks := map[string]bool{}
	for kind := engine.BlockState; kind <= engine.BlockNever; kind++ {
		b := engine.Block{Kind: kind, Unit: "api", State: engine.Stopped, Files: []string{"a.out"}, To: "one",
			Command: "make"}
		blocks[explain.Stale(engine.Staleness{Block: b})] = true
	}
	assert.Len(t, blocks, int(engine.BlockNever)+1)
	refusals := map[string]bool{}
	for kind := engine.RefusedNot; kind <= engine.RefusedUnknown; kind++ {
		refusals[explain.Refusal(engine.Refusal{Kind: kind, Unit: "api", Request: engine.Narrow})] = true
	}
	assert.Len(t, refusals, int(engine.RefusedUnknown)+1)
}
