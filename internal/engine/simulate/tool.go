package simulate

import (
	"slices"
	"time"

	"omnivigil/internal/engine"
)

// Tool is how the process of a unit that picks up changes by itself works.
type Tool struct {
	Says     bool                                    // it writes a line when a pass begins
	Deaf     bool                                    // it never takes up a change
	Cuts     bool                                    // it begins again in the middle of a pass
	Skips    bool                                    // it begins no pass for what the newest has read
	Compares bool                                    // nor for files that hold what they held before
	Notice   func() time.Duration                    // from a write to its noticing that
	Lag      func() time.Duration                    // from its writing a line to the line's being read
	Work     func() (takes time.Duration, good bool) // of the next pass
}

// tool is a Tool at work.
type tool struct {
	Tool
	world   *World
	unit    string
	process *process
	pass    *toolPass     // under way
	wanted  bool          // another pass follows
	began   engine.Moment // the newest
	allRead engine.Moment // up to then, all that it had written has been read
	unread  int           // lines that have not been read
	last    engine.Moment // when the newest of them will be
	unsure  bool          // when a file was written is not known: the wall clock was set before that was reported
	since   engine.Moment // after which a pass began whose begin no line reports
}

// toolPass is one pass. What it can read is what is written when it begins.
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

// end ends a pass, unless another has cut it short.
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
		w.Send(engine.PassEnded{Unit: t.unit, Run: t.process.run, Good: good, Saw: "an error"})
	})
	if t.wanted {
		t.begin(false)
	}
}

// line lets the tool write a line, which is read a little later.
func (t *tool) line(read func(after engine.Moment)) {
	t.unread++
	t.last = later(t.last, t.world.Moment().Add(t.Lag())) // lines are read in their order
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

// written lets the tool notice that one of its files was written, sooner or later. Same says that it holds
// what it held before, from when the burst of writing began.
func (t *tool) written(same bool, since engine.Moment) {
	if t.Deaf || !t.process.alive {
		return
	}
	at := t.world.Moment()
	t.world.In(t.Notice(), func() {
		switch {
		case t.Skips && t.began.After(at):
		case same && t.Compares && t.began.Before(since): // it holds what it held when that was read
		case t.pass == nil || t.Cuts:
			t.begin(false)
		default:
			t.wanted = true
		}
	})
}

// readUpTo notes, as soon as it is so, that all that the tool had written by then is read.
func (t *tool) readUpTo(now engine.Moment) {
	t.world.In(now.Add(onTheWay).Sub(t.world.Moment()), func() {
		if t.unread == 0 {
			t.allRead = later(t.allRead, now.Add(1))
		} else if t.process.alive {
			t.readUpTo(now.Add(time.Millisecond))
		}
	})
}

// onTheWay is how long what a process has written may be on its way to where it is read.
const onTheWay = 10 * time.Millisecond

// tools returns those of the units that pick up changes and live.
func (w *World) tools(units []string) []*tool {
	var all []*tool
	for _, name := range units {
		if p := w.procs[name]; p != nil && p.alive && p.tool != nil {
			all = append(all, p.tool)
		}
	}
	return all
}

// isUnsure reports whether nothing tells what the process of a unit has taken up.
func (w *World) isUnsure(unit string) bool {
	return slices.ContainsFunc(w.tools([]string{unit}), func(t *tool) bool { return t.unsure })
}

// IsDeaf reports whether a unit's process lives and takes up no change.
func (w *World) IsDeaf(unit string) bool {
	return slices.ContainsFunc(w.tools([]string{unit}), func(t *tool) bool { return t.Deaf })
}
