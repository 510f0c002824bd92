package survey

import (
	"runtime"
	"testing"

	"github.com/stretchr/testify/assert"

	"omnivigil/internal/engine"
	"omnivigil/internal/plan"
)

// TestSurvey checks what is told of a machine over time: nothing while nothing is built, then the average of what other
// programs use, without a change for every small one.
func TestSurvey(t *testing.T) {
	others := 0
	v := Survey{Load: func(counted bool) (float64, int, bool) {
		if !counted {
			return 3, 0, true
		}
		return 3, others, true
	}}
	idle := []*engine.Unit{{Name: "tides", State: engine.Ready}}
	building := append(idle, &engine.Unit{Name: "fares", Kind: plan.Task, Moving: true})
	cpu := 0.0
	look := func(units []*engine.Unit) (foreign int, matters bool) {
		ev, matters := v.Look(units, func(string) float64 { return cpu })
		return ev.Foreign, matters
	}
	for range 3 * remembered {
		_, matters := look(idle)
		assert.False(t, matters)
	}
	told := []int{}
	for _, others = range []int{2, 2, 2, 2, 2, 2, 3, 2, 3, 2, 1, 1, 2, 3, 4, 4, 4, 4, 0, 0, 0, 0, 0} {
		if foreign, matters := look(building); matters {
			told = append(told, foreign)
		}
	}
	assert.Equal(t, []int{2, 3, 2, 1, 0}, told)
	_, matters := look(idle)
	assert.False(t, matters)

	cpu = 0.5
	ev, matters := v.Look([]*engine.Unit{{Name: "tides", State: engine.Starting}}, func(string) float64 { return cpu })
	assert.True(t, matters)
	assert.Equal(t, engine.Surveyed{Load: 3, Busy: []string{"tides"}}, ev)

	// On a busy machine, a process that is busy gets little.
	cpus := float64(runtime.NumCPU())
	v.Load = func(bool) (float64, int, bool) { return 10 * cpus, 0, true }
	for _, test := range []struct {
		cpu  float64
		busy []string
	}{{0.02, []string{"tides"}}, {0.005, nil}} {
		cpu = test.cpu
		ev, _ = v.Look([]*engine.Unit{{Name: "tides", State: engine.Starting}}, func(string) float64 { return cpu })
		assert.Equal(t, test.busy, ev.Busy)
	}
	cpu = 0.5
	v.Load = func(bool) (float64, int, bool) { return 0, 0, false }
	_, matters = v.Look([]*engine.Unit{{Name: "tides", State: engine.Starting}}, func(string) float64 { return cpu })
	assert.False(t, matters, "unknown")
}
