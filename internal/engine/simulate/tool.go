package simulate

import (
	"slices"
	"time"

	"omnivigil/internal/engine"
)

// Tool is the behavior of a process of a unit that picks up changes by itself.
type Tool struct {
	Says     bool                                    // it reports when a pass begins
	Deaf     bool                                    // it never picks up a change
	Cuts     bool                                    // it starts again in the middle of a pass
	Skips    bool                                    // it begins no pass for what the newest one has read
	Compares bool                                    // nor for files with the same contents as before
	Notice   func() time.Duration                    // the time from a write to noticing it
	Lag      func() time.Duration                    // the time from writing a line to its being read
	Work     func() (takes time.Duration, good bool) // the duration and the result of the next pass
}

// tool is a running Tool.
type tool struct {
	Tool
	world   *World
	unit    string
	process *process
	pass    *toolPass     // the current one
	wanted  bool          // another pass follows
	began   engine.Moment // the newest
	allRead engine.Moment // everything written until then has been read
	unread  int           // unread lines
	last    engine.Moment // when the newest of them will be read
	unsure  bool          // the time of a write is unknown: the wall clock was set before that was reported
	since   engine.Moment // the earliest beginning of a pass that no line reports
}

// toolPass is one pass. It can read what was written when it begins.
type toolPass struct {
	serial int
	first  bool
}

func (w *World) runTool(unit string, p *process) {
	t := &tool{Tool: *p.b.Tool, world: w, unit: unit, process: p, allRead: w.Moment(), since: w.Moment()}
	p.tool = t
	w.Send(engine.PassBegan{Unit: unit, Run: p.run, After: w.Moment(), By: w.Moment(), Guessed: true})
	t.begin(true)
}

func (t *tool) begin(first bool) {
	w := t.world
	if !t.process.alive {
		return
	}
	w.passes++
	t.pass, t.wanted, t.began = &toolPass{w.passes, first}, false, w.Moment()
	if w.PassBegins != nil {
		w.PassBegins(t.unit, t.pass.serial)
	}
	takes, good := t.Work()
	pass := t.pass
	if t.Says && !(first && t.Deaf) {
		t.line(func(after engine.Moment) {
			w.Send(engine.PassBegan{Unit: t.unit, Run: t.process.run, After: after, By: w.Moment()})
		})
	}
	w.In(takes, func() { t.end(pass, good) })
}

// end ends a pass, unless another one has interrupted it.
func (t *tool) end(pass *toolPass, good bool) {
	w := t.world
	if !t.process.alive || t.pass != pass {
		return
	}
	t.pass = nil
	if t.process.b.Writes != "" && !pass.first {
		w.make(t.unit, t.process)
	}
	t.line(func(after engine.Moment) {
		if !t.Says && !pass.first {
			w.Send(engine.PassBegan{Unit: t.unit, Run: t.process.run, After: t.since, By: w.Moment(), Guessed: true})
		}
		t.since = after
		w.ending = pass.serial
		w.Send(engine.PassEnded{Unit: t.unit, Run: t.process.run, Good: good, Saw: "an error", After: after})
	})
	if t.wanted {
		t.begin(false)
	}
}

// line lets the tool write a line, which is read a little later.
func (t *tool) line(read func(after engine.Moment)) {
	t.unread++
	t.last = later(t.last, t.world.Moment().Add(t.Lag())) // lines are read in order
	t.world.In(t.last.Sub(t.world.Moment()), func() {
		t.unread--
		read(t.allRead)
	})
}

func later(a, b engine.Moment) engine.Moment {
	if a.After(b) {
		return a
	}
	return b
}

// written lets the tool notice a write to one of its files, sooner or later. Same: the contents are those at the
// beginning of the burst.
func (t *tool) written(same bool, since engine.Moment) {
	if t.Deaf || !t.process.alive {
		return
	}
	at := t.world.Moment()
	t.world.In(t.Notice(), func() {
		switch {
		case t.Skips && t.began.After(at):
		case same && t.Compares && t.began.Before(since): // the contents are those that it has read
		case t.pass == nil || t.Cuts:
			t.begin(false)
		default:
			t.wanted = true
		}
	})
}

// readUpTo records when everything that the tool had written by then has been read.
func (t *tool) readUpTo(now engine.Moment) {
	t.world.In(now.Add(onTheWay).Sub(t.world.Moment()), func() {
		if t.unread == 0 {
			t.allRead = later(t.allRead, now.Add(1))
		} else if t.process.alive {
			t.readUpTo(now.Add(time.Millisecond))
		}
	})
}

// onTheWay is how long output of a process may take until it is read.
const onTheWay = 10 * time.Millisecond

// tools returns the tools of those of the units that are live.
func (w *World) tools(units []string) []*tool {
	var all []*tool
	for _, name := range units {
		if p := w.procs[name]; p != nil && p.alive && p.tool != nil {
			all = append(all, p.tool)
		}
	}
	return all
}

// isUnsure reports whether nothing tells what the process of a unit has picked up.
func (w *World) isUnsure(unit string) bool {
	return slices.ContainsFunc(w.tools([]string{unit}), func(t *tool) bool { return t.unsure })
}

// IsDeaf reports whether a unit's process is live and picks up no change.
func (w *World) IsDeaf(unit string) bool {
	return slices.ContainsFunc(w.tools([]string{unit}), func(t *tool) bool { return t.Deaf })
}
