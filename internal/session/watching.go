package session

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"time"

	"omnivigil/internal/engine"
	"omnivigil/internal/output/logbook"
	"omnivigil/internal/plan"
	"omnivigil/internal/session/impact"
	"omnivigil/internal/session/outputs"
	"omnivigil/internal/text/format"
	"omnivigil/internal/watch"
)

// watching is the session's watcher. Only current may be used from any goroutine.
type watching struct {
	open  func(after int) (Watcher, error)
	retry <-chan time.Time // when to try again; nil: not at all
	lost  bool             // files are not watched, or what was missed has not been reported
	burst int              // the newest that was reported
	since time.Time        // when the watcher was opened
}

// reopenPause is the pause after a failed attempt to watch files.
const reopenPause = time.Second

// watcherNow returns the watcher in use. It may be called from any goroutine.
func (s *Session) watcherNow() Watcher {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.watcher
}

// fileEvents returns the watcher's events; nil while files are not watched.
func (l *loop) fileEvents() <-chan watch.Event {
	if l.watching.retry != nil {
		return nil
	}
	return l.watcher.Events()
}

// notWatched reports that files are no longer watched, and tries to watch them again.
func (l *loop) notWatched() {
	err := cmp.Or(l.watcher.Err(), errors.New("the watcher has ended"))
	l.watcher.Close()
	l.watching.lost = true
	now := time.Now()
	l.step(now, engine.Unwatched{Problem: err.Error()})
	if now.Sub(l.watching.since) < reopenPause {
		l.watching.retry = time.After(reopenPause)
	} else {
		l.watchAgain()
	}
}

// watchAgain opens a new watcher. What it finds is reported when it watches: see missed.
func (l *loop) watchAgain() {
	l.watching.burst++ // for what was missed
	w, err := l.watching.open(l.watching.burst)
	if err != nil {
		l.watching.retry = time.After(reopenPause)
		l.step(time.Now(), engine.Unwatched{Problem: err.Error()})
		return
	}
	l.watching.retry, l.watching.since = nil, time.Now()
	l.mu.Lock()
	l.watcher = w
	l.mu.Unlock()
	l.watchForNewest()
}

// missed reports everything that is watched as changed, when files are watched again: no event has told what happened
// to them.
func (l *loop) missed(now time.Time) {
	l.watching.lost = false
	l.step(now, engine.Unwatched{})
	if l.once {
		return
	}
	burst := l.watching.burst
	touched := engine.Touched{Burst: burst}
	change := engine.Change{Burst: burst, Since: l.moment(now)}
	unchanged := engine.Unchanged{Burst: burst}
	for _, in := range impact.InterestsOf(l.plan, l.observations.Inputs(l.plan), l.ignored) {
		u := l.plan.Unit(in.Key)
		if u == nil || u.Relay != nil || len(in.Rules) == 0 {
			continue
		}
		touched.Units = append(touched.Units, u.Name)
		if u.Pass != nil { // it may have picked up everything
			unchanged.Units = append(unchanged.Units, u.Name)
			continue
		}
		missed := engine.Hit{Unit: u.Name, Path: "the watched files", What: engine.Missed, Rule: in.Rules[0].Pattern}
		change.Hits = append(change.Hits, missed)
	}
	l.step(now, touched)
	l.step(now, change)
	l.step(now, unchanged)
	l.readSettings(now, burst)
	l.mu.Lock()
	for _, w := range l.waiters {
		w.heard = true
	}
	l.mu.Unlock()
}

// watched translates the watcher's events into the engine's.
func (l *loop) watched(ev watch.Event) {
	now := time.Now()
	if l.once {
		switch ev.(type) {
		case watch.Touched, watch.Change, watch.Unchanged:
			return
		}
	}
	switch ev := ev.(type) {
	case watch.Touched:
		l.watching.burst = max(l.watching.burst, ev.Burst)
		if slices.Contains(ev.Keys, impact.Settings) {
			l.step(now, engine.SettingsTouched{Burst: ev.Burst})
		}
		for _, key := range ev.Keys {
			if unit := impact.OutputsOf(key); unit != "" {
				l.touches.Add(unit)
			}
		}
		l.touched(now, ev)
	case watch.Change:
		l.changed(now, ev)
	case watch.Watching:
		if l.first != nil {
			first := l.first
			l.first = nil
			l.step(now, first)
			if !l.once { // otherwise nothing is rerun on a save
				go l.tellIdleRules(l.plan)
			}
		}
		if ev.Number == l.edits {
			l.adopt(now)
			if l.watching.lost {
				l.missed(now)
			}
		}
	case watch.Unchanged:
		if slices.Contains(ev.Keys, impact.Settings) {
			l.readSettings(now, ev.Burst)
		}
		for _, key := range ev.Keys {
			if unit := impact.OutputsOf(key); unit != "" { // created and removed
				l.outputsMoved(unit, now, nil)
			}
		}
		l.unchanged(now, ev)
	case watch.CaughtUp:
		if units := l.touches.Due(ev.Number, l.runs); len(units) > 0 {
			go l.Session.lookForWait(ev.Number, units)
		} else {
			l.caughtUp(ev.Number)
		}
	case watch.Notice:
		l.note(logbook.Entry{Tone: logbook.Stale}, ev.Text)
	}
}

// unchanged tells the units about files whose contents are the same as before.
func (l *loop) unchanged(now time.Time, ev watch.Unchanged) {
	u := engine.Unchanged{Burst: ev.Burst, Units: impact.Units(ev.Keys)}
	if len(u.Units) == 0 {
		return
	}
	for _, h := range ev.Hits {
		if unit := l.plan.Unit(h.Key); unit != nil && slices.Contains(u.Units, h.Key) {
			u.Hits = append(u.Hits, outputs.Dated(l.root, unit, impact.Hit(l.plan, unit, h)))
		}
	}
	l.step(now, u)
}

func (l *loop) touched(now time.Time, ev watch.Touched) {
	t := engine.Touched{Burst: ev.Burst, Units: impact.Units(ev.Keys)}
	if len(t.Units) == 0 {
		return
	}
	for i, key := range ev.Keys {
		if slices.Contains(t.Units, key) && i < len(ev.Written) {
			t.Written = append(t.Written, ev.Written[i])
		}
	}
	for _, name := range t.Units {
		if live := l.live[name]; live != nil {
			live.MayStop()
		}
	}
	l.step(now, t)
	for _, name := range t.Units {
		if live := l.live[name]; live != nil && live.Unit.Pass != nil {
			live.ReadUpTo(now)
		}
	}
}

func (l *loop) changed(now time.Time, ev watch.Change) {
	c := engine.Change{Burst: ev.Burst, Since: l.moment(ev.Since), Files: ev.Files}
	settings, made := false, map[string][]watch.Hit{}
	var elsewhere []string
	for _, h := range ev.Hits {
		switch h.Key {
		case impact.Settings:
			settings = true
		case impact.Elsewhere:
			elsewhere = append(elsewhere, h.Path)
		default:
			if unit := impact.OutputsOf(h.Key); unit != "" {
				made[unit] = append(made[unit], h)
			} else if unit := l.plan.Unit(h.Key); unit != nil {
				c.Hits = append(c.Hits, outputs.Dated(l.root, unit, impact.Hit(l.plan, unit, h)))
			}
		}
	}
	if settings {
		l.readSettings(now, ev.Burst)
	}
	l.tellElsewhere(now, elsewhere)
	for unit, hits := range made {
		l.outputsMoved(unit, ev.Since, hits)
	}
	isMade := func(h engine.Hit) bool { return h.More == 0 && len(impact.Makers(l.plan, h.Path)) > 0 }
	for _, h := range c.Hits {
		if l.plan.Unit(h.Unit).ForPages(h.Reaction) {
			continue
		}
		if c.Made = isMade(h); !c.Made {
			break
		}
	}
	if len(c.Hits) > 0 {
		l.step(now, c)
	}
}

// maxNoticed limits the files that a session remembers to have reported.
const maxNoticed = 10000

// tellElsewhere reports files that no rule matches, once each, with the rule that almost matches. While a process is
// running the files may be its own, which are of no interest.
func (l *loop) tellElsewhere(now time.Time, paths []string) {
	if len(paths) == 0 || l.atWork(now) {
		return
	}
	var fresh []string
	for _, p := range paths {
		if !l.noticed[p] && len(l.noticed) < maxNoticed {
			l.noticed[p] = true
			fresh = append(fresh, p)
		}
	}
	if len(fresh) == 0 {
		return
	}
	why := impact.Why(l.plan, fresh[0])
	if why.Near == nil && (why.Settings || why.Noise || len(why.Acts)+len(why.Kept) > 0) {
		return // it is ignored on purpose
	}
	text := "no rule matches " + format.List(fresh)
	if why.Near != nil {
		text += fmt.Sprintf("; nearest is %q of %s", why.Near.Pattern.Text, why.Near.Unit)
	}
	l.Note(text)
}

// atWork reports whether a unit is running a process that ends, or did a moment ago.
func (s *Session) atWork(now time.Time) bool {
	const moment = time.Second
	return slices.ContainsFunc(s.state().Units, func(u *engine.Unit) bool {
		lately := func(m engine.Moment) bool { return !m.IsZero() && now.Sub(s.time(m)) < moment }
		return u.Moving || lately(u.Run.EndedAt) || lately(u.Run.ReadyAt)
	})
}

// tellIdleRules reports rules that match no file. It reads directories.
func (s *Session) tellIdleRules(p *plan.Plan) {
	const most = 5
	idle := impact.Idle(p)
	for i, rule := range idle {
		if i == most {
			more := fmt.Sprintf("%d more rules match no file; omnivigil check lists them", len(idle)-most)
			s.note(logbook.Entry{Tone: logbook.Stale}, more)
			return
		}
		text := fmt.Sprintf("no file matches its rule %q (line %d)", rule.Pattern.Text, rule.Pattern.Line)
		s.note(logbook.Entry{Unit: rule.Unit, Tone: logbook.Stale}, text)
	}
}
