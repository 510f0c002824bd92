package session

import (
	"fmt"
	"slices"

	"omnivigil/internal/engine"
	"omnivigil/internal/engine/explain"
	"omnivigil/internal/output/logbook"
	"omnivigil/internal/plan"
	"omnivigil/internal/process"
)

// prepare runs what comes before the unit's own command, and then that. It reports
// to the engine how it went.
func (r *liveRun) prepare(s *Session, o engine.Start) {
	if r.unit.Reuse && r.isReused(s, o) {
		return
	}
	for _, step := range r.unit.Setup {
		if !r.setUp(s, o, step) {
			return
		}
	}
	for _, step := range r.unit.Prelude {
		if !r.mayProceed(s, o, step, false) || !r.step(s, o, "prelude", step) {
			return
		}
	}
	s.spawnRun(r, o)
}

// isReused finds out whether the unit's last good result holds, and reports whether it is
// taken. Where it is not, what the run depends on is remembered for its end.
func (r *liveRun) isReused(s *Session, o engine.Start) bool {
	attempt, err := s.results.Begin(s.Plan(), r.unit)
	switch {
	case err != nil:
		s.note(r.entry(logbook.Note), "its result cannot be reused: "+err.Error())
		return false
	case r.isStopped():
		s.send(engine.NotSpawned{Unit: o.Unit, Run: o.Run, Problem: "stopped"})
		return true
	case attempt.Holds && o.Reuse:
		if len(r.unit.Outputs) > 0 {
			s.outputs.note(r.unit.Name, o.Run, list(s.Plan(), r.unit))
		}
		r.reuseMeaning(s, attempt.Told())
		s.send(engine.Reused{Unit: o.Unit, Run: o.Run, At: attempt.At, Took: attempt.Took})
		return true
	}
	if o.Command.Equal(r.unit.Run) && len(o.Words) == 0 {
		r.attempt = attempt
	}
	return false
}

// remember keeps the result of a run that has ended well, if it can be reused.
func (r *liveRun) remember(s *Session) {
	if r.attempt == nil || s.isInDoubt(r.unit.Name) {
		return
	}
	if err := r.attempt.EndedWell(r.told); err != nil {
		s.note(r.entry(logbook.Note), "its result cannot be reused: "+err.Error())
	}
}

// isInDoubt reports whether what a unit has made may be from older files than those that are there.
func (s *Session) isInDoubt(unit string) bool {
	return slices.ContainsFunc(
		s.state().Doubts,
		func(d engine.Doubt) bool { return d.Unit == unit && d.Kind != engine.DoubtOutput },
	)
}

// setUp runs a setup step, unless it is done. It reports whether the run can go on.
func (r *liveRun) setUp(s *Session, o engine.Start, step plan.Step) bool {
	if done, err := s.setup.Done(s.Plan(), r.unit, step); err == nil && done && !o.Setup {
		return true
	}
	// The job comes before the turn: the unit that has the turn of a step that others wait for
	// must not have to wait for the job that one of them has.
	if !r.mayProceed(s, o, step, true) {
		return false
	}
	turn, err := s.setup.Begin(r.cancelled, s.Plan(), r.unit, step)
	switch {
	case r.isStopped():
		if err == nil {
			turn.End(false)
		}
		s.send(engine.NotSpawned{Unit: o.Unit, Run: o.Run, Problem: "stopped"})
		return false
	case err != nil:
		s.send(engine.NotSpawned{Unit: o.Unit, Run: o.Run, Problem: err.Error()})
		return false
	case turn.Done && !o.Setup:
		turn.End(false)
		return true
	}
	well := r.step(s, o, "setup", step)
	if err := turn.End(well); err != nil {
		s.Note("a setup step will be repeated next time: " + err.Error())
	}
	return well
}

// mayProceed tells the engine of a step and waits until it may begin. It reports false
// where the run has been stopped in between; the engine has been told then.
func (r *liveRun) mayProceed(s *Session, o engine.Start, step plan.Step, heavy bool) bool {
	s.send(engine.SettingUp{Unit: o.Unit, Run: o.Run, Step: step.Run.String(), Heavy: heavy})
	select {
	case <-r.proceed:
		return true
	case <-r.cancelled.Done():
		s.send(engine.NotSpawned{Unit: o.Unit, Run: o.Run, Problem: "stopped"})
	case <-s.stopped:
	}
	return false
}

// step runs one step to its end and reports whether it went well. If not, the
// engine has been told.
func (r *liveRun) step(s *Session, o engine.Start, kind string, step plan.Step) bool {
	exited := make(chan process.Exit, 1)
	spec := r.spec(s, step.Run)
	spec.Terminal = process.ShownTerminal
	spec.Exited = func(x process.Exit) { exited <- x }
	process, err := s.spawner.Start(spec)
	if err != nil {
		s.send(engine.NotSpawned{Unit: o.Unit, Run: o.Run, Problem: fmt.Sprintf("%s step %q: %v", kind, step.Run, err)})
		return false
	}
	r.have(process)
	x := engine.Exit(<-exited)
	r.rest(s)
	switch {
	case r.isStopped():
		s.send(engine.Exited{Unit: o.Unit, Run: o.Run, Exit: x})
	case !x.OK():
		s.send(
			engine.NotSpawned{
				Unit:    o.Unit,
				Run:     o.Run,
				Problem: fmt.Sprintf("%s step %q failed: %s", kind, step.Run, explain.Exit(x)),
			},
		)
	default:
		return true
	}
	return false
}
