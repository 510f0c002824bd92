package simulate

import (
	"fmt"
	"maps"
	"time"

	"omnivigil/internal/engine"
	"omnivigil/internal/plan"
)

// result is what a task has made, and from what.
type result struct {
	serial  int
	command string
	inputs  map[int]bool
	ups     map[string]string
	at      time.Time
	writes  int // how often its files had been written
}

// change changes a unit's files. A write that leaves them the same is followed by another one that takes it back.
func (w *World) change(unit string, burst int, same bool) {
	c := w.contents[unit]
	if c == nil {
		c = map[int]bool{}
		w.contents[unit] = c
	}
	w.writes[unit]++
	if same && c[burst] {
		delete(c, burst)
	} else {
		c[burst] = true
	}
}

// inputOf returns what a run that begins now would use.
func (w *World) inputOf(unit string) *result {
	u := w.Plan.Unit(unit)
	if u == nil || !u.Reuse {
		return nil
	}
	r := &result{
		command: u.Run.String(),
		inputs:  maps.Clone(w.contents[unit]),
		writes:  w.writes[unit],
		ups:     map[string]string{},
	}
	for _, name := range u.Upstream() {
		r.ups[name] = w.resultOf(w.Plan.Unit(name))
	}
	return r
}

// resultOf identifies the current result of a unit.
func (w *World) resultOf(u *plan.Unit) string {
	switch made := w.results[u.Name]; {
	case made != nil:
		return fmt.Sprint(made.serial)
	case u.Kind.Ends() || u.Pass != nil:
		return fmt.Sprint(w.contents[u.Name])
	}
	return ""
}

func (r *result) sameAs(other *result) bool {
	return r != nil && other != nil && r.command == other.command &&
		maps.Equal(r.inputs, other.inputs) && maps.Equal(r.ups, other.ups)
}

// holds reports whether a task's last good result is from the current inputs.
func (w *World) holds(unit string) bool { return w.results[unit].sameAs(w.inputOf(unit)) }

// reuse answers that a result is valid.
func (w *World) reuse(unit string, p *process) {
	if !p.alive {
		return
	}
	p.alive = false
	w.Send(engine.Reused{Unit: unit, Run: p.run, At: w.results[unit].at, Took: time.Second})
}

// finish stores what a task has made, if nothing has changed meanwhile.
func (w *World) finish(unit string, p *process, x engine.Exit) {
	u := w.Plan.Unit(unit)
	if p.input == nil || u == nil {
		return
	}
	delete(w.results, unit) // its output has changed
	if !x.OK() || p.input.writes != w.writes[unit] || p.order.Command.String() != u.Run.String() ||
		!p.input.sameAs(w.inputOf(unit)) {
		return
	}
	w.made++
	p.input.serial, p.input.at = w.made, w.Moment().Wall
	w.results[unit] = p.input
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
