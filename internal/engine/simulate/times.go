package simulate

import (
	"slices"
	"time"

	"omnivigil/internal/engine"
	"omnivigil/internal/engine/explain"
)

// timed is what a unit's program, which compares file times, has made, and from what.
type timed struct {
	files map[string]time.Time // the modification times of its files, by path
	made  string               // the contents that the object was made from
	at    time.Time            // the object's modification time; zero: there is none
	// A file was put in place with an older time than now; one was saved during a run that wrote afterwards.
	everOlder, everDuring bool
	stamped               time.Time // when a file was last written
	everSame              bool      // one was changed and restored, so that its times went back and forth
}

func (w *World) timed(unit string) *timed {
	t := w.times[unit]
	if t == nil {
		t = &timed{files: map[string]time.Time{}}
		w.times[unit] = t
	}
	return t
}

// stamp sets the time of a unit's file to now, or to an older time, but not to an older one than before if the
// contents are the same.
func (w *World) stamp(unit, path string, older time.Duration, same bool) {
	t := w.timed(unit)
	t.everSame, t.stamped = t.everSame || same, w.Now
	if at := w.Moment().Wall.Add(-older); !same || at.After(t.files[path]) {
		t.files[path] = at
	}
	t.everOlder = t.everOlder || older > 0 || w.ClockSet
	p := w.procs[unit]
	if p == nil || !p.spawned || !p.alive && w.Now.Sub(p.ended) > time.Second {
		return
	}
	// it may be over when the file is reported, or its end not yet be reported
	t.everOlder = true
	t.everDuring = t.everDuring || p.alive && older > 0 // older than its earlier output, too
	if p.alive && p.saved.IsZero() {
		p.saved = w.Now
	}
}

// build lets a process that compares file times make its object, if there is something to do.
func (w *World) build(unit string, p *process) {
	t := w.timed(unit)
	t.everOlder = t.everOlder || w.Now.Sub(t.stamped) < time.Second // whether it is older is uncertain
	if t.stamped.Equal(w.Now) {                                     // or before, which is unknown
		p.saved = w.Now
	}
	newer := t.at.IsZero()
	for _, at := range t.files {
		newer = newer || at.After(t.at)
	}
	if !newer {
		return
	}
	from := w.Holding(unit)
	w.In(p.b.EndsAfter*2/3, func() {
		if p.alive {
			t.made, t.at = from, w.Moment().Wall
			p.built = w.Now
		}
	})
}

// wroteAfterSave records whether a process that compares file times may have written after a save.
func (w *World) wroteAfterSave(unit string, p *process) {
	t := w.timed(unit)
	t.everDuring = t.everDuring || w.ClockSet || !p.saved.IsZero() && !p.built.IsZero() && !p.built.Before(p.saved)
}

// dated adds file times to hits.
func (w *World) dated(hits []engine.Hit) []engine.Hit {
	for i, h := range hits {
		if u := w.Plan.Unit(h.Unit); u != nil && u.ComparesTimes {
			hits[i].ModTime = w.timed(h.Unit).files[h.Path]
		}
	}
	return hits
}

// times checks what is shown of units whose programs compare file times.
func (c *Checker) times(snap *engine.Snapshot) {
	w := c.world
	for _, u := range snap.Units {
		b := c.units[u.Name]
		if b == nil || !b.spec.ComparesTimes {
			continue
		}
		t := w.timed(u.Name)
		doubted := slices.ContainsFunc(snap.Doubts, func(d engine.Doubt) bool {
			return d.Unit == u.Name && d.Kind != engine.DoubtUncovered && d.Kind != engine.DoubtNeed
		})
		if t.everSame && w.ClockSet {
			continue
		}
		if !c.quitting && len(b.ignored) == 0 && w.unheard == 0 && w.Unwatched == "" && b.wanted &&
			u.Freshness == engine.Current &&
			t.made != w.Holding(u.Name) &&
			!doubted {
			c.broke(
				13,
				"%s is shown as current without a doubt, but has made %s, and its files hold %s",
				u.Name,
				t.made,
				w.Holding(u.Name),
			)
		}
	}
	for _, d := range snap.Doubts {
		t := w.timed(d.Unit)
		switch b := c.of(d.Unit); {
		case !b.spec.ComparesTimes && d.Kind != engine.DoubtOutput && d.Kind != engine.DoubtUncovered &&
			d.Kind != engine.DoubtNeed:
			c.broke(13, "there is a doubt about %s, which compares no times: %s", d.Unit, explain.Doubt(d))
		case d.Kind == engine.DoubtOlder && !t.everOlder && !w.ClockSet, d.Kind == engine.DoubtDuring && !t.everDuring:
			c.broke(13, "there is a doubt about %s without a reason: %s", d.Unit, explain.Doubt(d))
		}
	}
}
