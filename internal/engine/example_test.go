package engine_test

import (
	"fmt"
	"time"

	"omnivigil/internal/engine"
	"omnivigil/internal/plan"
)

// A save is reported twice: at once, when the unit becomes stale, and after the debounce, when it acts. The caller
// provides the time.
func Example() {
	fares := &plan.Unit{Name: "fares", Kind: plan.Task, Run: plan.Command{Shell: "make fares"}}
	e := engine.New(&plan.Plan{Name: "Saltmarsh Ferries", Units: []*plan.Unit{fares}})
	now := engine.Moment{Wall: time.Date(2030, 5, 4, 12, 4, 31, 0, time.UTC)}
	step := func(ev engine.Event) {
		now = now.Add(time.Second)
		for _, order := range e.Step(now, ev) {
			if start, ok := order.(engine.Start); ok {
				fmt.Printf("start %s, run %d\n", start.Unit, start.Run)
			}
		}
		fmt.Println(e.Snapshot().Verdict.Word)
	}
	step(engine.Begin{})
	step(engine.Spawned{Unit: "fares", Run: 1, PID: 4711})
	step(engine.Exited{Unit: "fares", Run: 1})
	step(engine.Touched{Burst: 1, Units: []string{"fares"}})
	hit := engine.Hit{Unit: "fares", Path: "fares.csv", What: "written"}
	step(engine.Change{Burst: 1, Since: now, Hits: []engine.Hit{hit}})
	step(engine.Spawned{Unit: "fares", Run: 2, PID: 4712})
	step(engine.Exited{Unit: "fares", Run: 2, Exit: engine.Exit{Code: 2}})
	// Output:
	// start fares, run 1
	// UPDATING
	// UPDATING
	// CURRENT
	// UPDATING
	// start fares, run 2
	// UPDATING
	// UPDATING
	// BROKEN
}
