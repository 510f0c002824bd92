package engine_test

import (
	"reflect"
	"testing"

	"github.com/stretchr/testify/require"

	"omnivigil/internal/engine"
	"omnivigil/internal/engine/explain"
	"omnivigil/internal/engine/simulate"
	"omnivigil/internal/engine/simulate/random"
)

// TestShownIsTrue plays random projects and requires after each step that what is shown, of which only changes were
// derived again, equals the state of the units.
func TestShownIsTrue(t *testing.T) {
	for seed := range uint64(40) {
		var failed bool
		random.Play(seed, false, func(w *simulate.World) {
			check := w.After
			w.After = func(ev engine.Event, orders []engine.Order) {
				check(ev, orders)
				if failed {
					return
				}
				shown := w.Engine.Snapshot()
				w.Engine.ShowAll()
				failed = !assertSame(t, w.Engine.Snapshot(), shown, seed, ev)
			}
		})
		require.False(t, failed)
	}
}

func assertSame(t *testing.T, want, got *engine.Snapshot, seed uint64, ev engine.Event) bool {
	t.Helper()
	if len(want.Units) != len(got.Units) {
		t.Errorf("seed %d, %T: %d units, shown are %d", seed, ev, len(want.Units), len(got.Units))
		return false
	}
	if explain.Verdict(want) != explain.Verdict(got) ||
		!reflect.DeepEqual(want.Ripples[max(len(want.Ripples)-5, 0):], got.Ripples[max(len(got.Ripples)-5, 0):]) {
		t.Errorf("seed %d, after %T: %v, shown is %v; or a ripple", seed, ev, explain.Verdict(want),
			explain.Verdict(got))
		return false
	}
	for i, u := range want.Units {
		a, b := *u, *got.Units[i]
		a.Marks, b.Marks = nil, nil
		if !reflect.DeepEqual(a, b) {
			t.Errorf("seed %d, after %T %+v, %s is\n%+v, shown is\n%+v", seed, ev, ev, u.Name, a, b)
			return false
		}
	}
	return true
}
