package run

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"omnivigil/internal/engine"
	"omnivigil/internal/engine/explain"
	"omnivigil/internal/output/logbook"
	"omnivigil/internal/plan"
	"omnivigil/internal/process"
	"omnivigil/internal/store/contents"
	"omnivigil/internal/store/reuse"
	"omnivigil/internal/text/format"
)

// prepare runs what comes before the unit's own command, and then that. It reports the result to the engine.
func (r *Live) prepare(o engine.Start) {
	if r.Unit.Reuse && r.isReused(o) {
		return
	}
	for _, step := range r.Unit.Setup {
		if !r.setUp(o, step) {
			return
		}
	}
	for _, step := range r.Unit.Prelude {
		if !r.mayProceed(o, step, false) || !r.step(o, prelude, step) {
			return
		}
	}
	r.spawn(o)
}

// notSpawned ends a run without a process.
func (r *Live) notSpawned(o engine.Start, problem string) {
	r.ended()
	r.noteMade()
	r.project.Send(engine.NotSpawned{Unit: o.Unit, Run: o.Run, Problem: problem})
}

// isReused finds out whether an earlier result of the unit is valid, and reports whether it is used. If not, what the
// run depends on is recorded for its end.
func (r *Live) isReused(o engine.Start) bool {
	attempt, err := r.project.Results.Begin(r.project.Plan(), r.Unit)
	if err == nil && o.Reuse && o.Seek && !r.requested {
		attempt.Seek(r.cancelled)
	}
	switch {
	case err != nil:
		r.project.Note(r.Entry(logbook.Note), "its result cannot be reused: "+err.Error())
		return false
	case r.isStopped():
		r.notSpawned(o, "stopped")
		return true
	case o.Reuse && !r.requested && r.outputsExist(attempt):
		r.reuseMeaning(attempt.Told())
		r.ended()
		r.project.Send(engine.Reused{
			Unit: o.Unit, Run: o.Run, At: attempt.At(), Took: attempt.Took(), By: attempt.By(),
			Restored: !attempt.Holds,
		})
		return true
	}
	if o.Command.Equal(r.Unit.Run) && len(o.Words) == 0 {
		r.attempt = attempt
	}
	if r.begun = attempt; len(r.Unit.Outputs) > 0 {
		r.noteKept(attempt.Starts())
	}
	return false
}

// noteMade records what a run has made, however it has ended.
func (r *Live) noteMade() {
	if r.begun != nil && len(r.Unit.Outputs) > 0 {
		r.noteKept(r.begun.Ended())
	}
}

// noteKept reports why what a run makes cannot be recorded.
func (r *Live) noteKept(err error) {
	if err != nil {
		r.project.Note(r.Entry(logbook.Note), "what it makes cannot be restored later: "+err.Error())
	}
}

// outputsExist reports whether the outputs of an earlier result exist, as they are or restored, and records them.
func (r *Live) outputsExist(attempt *reuse.Attempt) bool {
	if !attempt.Holds && !r.restore(attempt) {
		return false
	}
	if len(r.Unit.Outputs) > 0 {
		r.project.Reused(r.Unit, r.Number)
	}
	return !attempt.IsGone() // what is removed from now on is noticed
}

// restore restores the outputs of an earlier result, with the lines of its output, and reports whether that was done.
// If not, the task has to run.
func (r *Live) restore(attempt *reuse.Attempt) bool {
	if !attempt.IsKept() {
		return false
	}
	done, err := attempt.Restore()
	switch {
	case errors.Is(err, contents.ErrAbsent): // deleted to stay within the limits of the store, or damaged
		return false
	case err != nil:
		r.project.Note(r.Entry(logbook.Note), "its outputs cannot be restored: "+err.Error())
		return false
	}
	if len(done.Lines) > 0 {
		of := format.RunOf(attempt.By(), format.Moment(attempt.At(), time.Now()))
		r.project.Note(r.Entry(logbook.Note), "output, restored from "+of+":")
		r.project.Book.Append(r.Entry(logbook.Output), r.harmless(done.Lines)...)
	}
	return true
}

// harmless returns lines as if a process had written them: they may come from another machine.
func (r *Live) harmless(lines []string) []string {
	s := r.newScanner()
	return append(s.Scan([]byte(strings.Join(lines, "\n")+"\n")), s.Rest()...)
}

// remember keeps the result of a successful run, if it can be reused.
func (r *Live) remember() {
	if r.attempt == nil || r.project.InDoubt(r.Unit.Name) {
		r.attempt = nil
		return
	}
	if err := r.attempt.EndedWell(r.told); err != nil {
		r.project.Note(r.Entry(logbook.Note), "its result cannot be reused: "+err.Error())
		r.attempt = nil
	}
}

// maxKeptLines is how many lines of a run are kept with its outputs: the last ones.
const maxKeptLines = 5000

// keep stores the outputs of a run whose result was remembered, in the background: nothing waits for it.
func (r *Live) keep() {
	attempt := r.attempt
	if attempt == nil {
		return
	}
	r.project.Results.Background(func() {
		different, err := attempt.Keep(r.project.Lines(r.Unit.Name, r.Number, maxKeptLines))
		if len(different) > 0 {
			r.project.Note(r.Entry(logbook.Note), "it is not deterministic: "+format.List(different)+
				" differ from what an earlier run made of the same inputs; leave \"reuse\" out if that matters")
		}
		if err != nil {
			r.project.Note(r.Entry(logbook.Note), "its outputs cannot be restored later: "+err.Error())
		}
	})
}

// setUp runs a setup step, unless it is done. It reports whether the run can continue.
func (r *Live) setUp(o engine.Start, step plan.Step) bool {
	if done, err := r.project.Setup.Done(r.project.Plan(), r.Unit, step); err == nil && done && !o.Setup {
		return true
	}
	// The job comes before the turn: a unit that has the turn for a shared step must not wait for a job that one of
	// the others has.
	if !r.mayProceed(o, step, true) {
		return false
	}
	turn, err := r.project.Setup.Begin(r.cancelled, r.project.Plan(), r.Unit, step)
	switch {
	case r.isStopped():
		if err == nil {
			turn.End(false)
		}
		r.notSpawned(o, "stopped")
		return false
	case err != nil:
		r.notSpawned(o, err.Error())
		return false
	case turn.Done && !o.Setup:
		turn.End(false)
		return true
	}
	well := r.step(o, "setup", step)
	if err := turn.End(well); err != nil {
		r.project.Note(logbook.Entry{}, "a setup step will be repeated next time: "+err.Error())
	}
	return well
}

// mayProceed announces a step to the engine and waits until it may begin. It returns false if the run was stopped in
// between, which the engine knows.
func (r *Live) mayProceed(o engine.Start, step plan.Step, heavy bool) bool {
	r.project.Send(engine.SettingUp{Unit: o.Unit, Run: o.Run, Step: step.Run.String(), Heavy: heavy})
	select {
	case <-r.proceed:
		return true
	case <-r.cancelled.Done():
		r.notSpawned(o, "stopped")
	case <-r.project.Stopped:
	}
	return false
}

const prelude = "prelude"

// step runs one step to its end and reports whether it succeeded. If not, the engine knows.
func (r *Live) step(o engine.Start, kind string, step plan.Step) bool {
	exited := make(chan process.Exit, 1)
	spec := r.spec(step.Run)
	spec.Dir = step.In(r.Unit)
	spec.Terminal = process.ShownTerminal
	spec.Exited = func(x process.Exit) { exited <- x }
	start := r.project.Spawner.Start
	if kind == prelude { // what a setup step depends on is named by its inputs
		unobserved := start
		start = func(spec process.Spec) (Process, error) { return r.begin(spec, unobserved) }
	}
	process, err := start(spec)
	if err != nil {
		r.notSpawned(o, fmt.Sprintf("%s step %q: %v", kind, step.Run, err))
		return false
	}
	r.have(process)
	x := engine.Exit(<-exited)
	r.rest()
	switch {
	case r.isStopped():
		r.project.Send(engine.Exited{Unit: o.Unit, Run: o.Run, Exit: x})
	case !x.OK():
		r.notSpawned(o, fmt.Sprintf("%s step %q failed: %s", kind, step.Run, explain.Exit(x)))
	default:
		return true
	}
	return false
}
