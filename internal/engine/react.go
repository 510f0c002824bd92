package engine

import (
	"slices"

	"omnivigil/internal/plan"
)

// pendingWork is what a unit has to run before it is current again: everything, or only the commands of reactions
// whose files have changed. A change runs what its rule requires. What a failed run leaves undone stays owed, and is
// run after a partial run has succeeded, so that a partial success never hides a full failure.
type pendingWork struct {
	whole    bool
	commands []plan.Command
}

// maxOwed limits the commands that are distinguished: if more are owed, everything is.
const maxOwed = 50

func (d *pendingWork) add(other pendingWork) {
	d.whole = d.whole || other.whole
	for _, c := range other.commands {
		d.owe(c)
	}
}

func (d *pendingWork) owe(c plan.Command) {
	if !slices.ContainsFunc(d.commands, func(have plan.Command) bool { return have.Equal(c) }) {
		d.commands = append(d.commands, c)
	}
	if len(d.commands) > maxOwed {
		d.whole = true
	}
}

// note adds what the hits require.
func (d *pendingWork) note(spec *plan.Unit, hits []Hit) {
	for _, h := range hits {
		if d.whole {
			return
		}
		if h.Reaction == 0 {
			d.whole = true
			continue
		}
		if run := spec.Reactions[h.Reaction-1].Run; run != nil {
			d.owe(run.With(h.Captures))
		} else {
			d.whole = true
		}
	}
}

// covered returns the part of the pending work that a run does.
func (d pendingWork) covered(r *run) pendingWork {
	if r.whole {
		return d
	}
	var part pendingWork
	for _, c := range d.commands {
		if c.Equal(r.command) {
			part.owe(c)
		}
	}
	return part
}

// pay removes what a run covers.
func (d *pendingWork) pay(r *run) {
	if r.whole {
		*d = pendingWork{}
		return
	}
	d.commands = slices.DeleteFunc(slices.Clone(d.commands), func(c plan.Command) bool { return c.Equal(r.command) })
}

// texts describes what is owed.
func (d pendingWork) texts(spec *plan.Unit) []string {
	if d.whole {
		return []string{spec.Run.String()}
	}
	var out []string
	for _, c := range d.commands {
		out = append(out, c.String())
	}
	return out
}

func (d pendingWork) empty() bool { return !d.whole && len(d.commands) == 0 }

// narrow returns the one command that does the pending work, if that is less than everything.
func (d pendingWork) narrow() (plan.Command, bool) {
	if d.whole || len(d.commands) != 1 {
		return plan.Command{}, false
	}
	return d.commands[0], true
}

// does reports whether the run does what the hits require: a full run always does, a partial one only if they require
// nothing else.
func (r *run) does(spec *plan.Unit, hits []Hit) bool {
	if r.whole {
		return true
	}
	if r.narrowed != "" {
		return false
	}
	asked := pendingWork{}
	asked.note(spec, hits)
	c, ok := asked.narrow()
	return ok && c.Equal(r.command)
}

// signalFor returns the signal that all the hits require; empty: they do not.
func (u *unit) signalFor(hits []Hit) (string, bool) {
	name := ""
	for _, h := range hits {
		if h.Reaction == 0 || u.spec.Reactions[h.Reaction-1].Do != plan.SendSignal {
			return "", false
		}
		signal := u.spec.Reactions[h.Reaction-1].Signal
		if name != "" && name != signal {
			return "", false
		}
		name = signal
	}
	return name, name != ""
}

// sendSignal sends a signal instead of running the unit again: it reloads its files by itself, and so its run has the
// newest code from then on.
func (e *Engine) sendSignal(u *unit, r *Ripple, name string, hits []Hit) {
	u.suspects = nil
	e.emit(SendSignal{u.spec.Name, u.run.Number, name})
	e.tell(
		Fact{
			Kind:    FactSignalSent,
			Unit:    u.spec.Name,
			Run:     u.run.Number,
			Ripple:  r.ID,
			Signal:  name,
			Reasons: []Reason{filesChanged(hits)},
		},
	)
}
