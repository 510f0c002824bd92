package simulate

import (
	"time"

	"omnivigil/internal/engine"
	"omnivigil/internal/engine/simulate/disk"
)

// restore restores the outputs of an earlier result, and answers that it is valid.
func (w *World) restore(unit string, p *process, r *disk.Result) {
	if p.alive {
		w.Restore(unit, r)
		w.reuse(unit, p, true)
	}
}

// reuse answers that a result is valid.
func (w *World) reuse(unit string, p *process, restored bool) {
	if !p.alive {
		return
	}
	p.alive = false
	w.Send(engine.Reused{
		Unit: unit, Run: p.run, At: w.Last(unit).At, Took: time.Second, Restored: restored,
	})
}

// finish stores what a task has made.
func (w *World) finish(unit string, p *process, x engine.Exit) {
	u := w.Plan.Unit(unit)
	if p.input == nil || u == nil {
		return
	}
	if w.Spoil(unit); x.OK() && p.order.Command.String() == u.Run.String() {
		w.Finish(w.Plan, unit, p.input, w.Moment().Wall)
	}
}

// Again ends the session at once and begins another one with the same files.
func (w *World) Again(c *Checker) {
	w.Send(engine.Requested{Request: engine.QuitNow})
	for !w.Finished && w.Next(w.Now.Add(time.Minute)) {
	}
	w.Clear()
	w.Unwatched, w.unheard, w.times = "", 0, map[string]*timed{}
	w.Engine, w.Finished, w.procs = engine.New(w.Plan), false, map[string]*process{}
	w.left, w.open = map[string][]string{}, map[string]*making{}
	c.again()
	w.Send(engine.Begin{})
}
