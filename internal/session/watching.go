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

// watching is what the session watches files with. Only current may be used from any goroutine.
type watching struct {
	open  func(after int) (Watcher, error)
	retry <-chan time.Time // when it is tried again to watch; nil: not at all
	lost  bool             // files are not watched, or what was missed is still to be reported
	burst int              // the newest that was reported
	since time.Time        // when the watcher was opened
}

// reopenPause is how long after a failed attempt to watch files the next one is made.
const reopenPause = time.Second

// watcherNow returns the watcher in use. It may be called from any goroutine.
func (s *Session) watcherNow() Watcher {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.watcher
}

// fileEvents is where files are reported, nil while they are not watched.
func (l *loop) fileEvents() <-chan watch.Event {
	if l.watching.retry != nil {
		return nil
	}
	return l.watcher.Events()
}

// notWatched says that files are not watched any more, and tries to watch them again.
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

// watchAgain opens a new watcher. What it finds is told when it watches: see missed.
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

// missed takes all that is watched for changed, once files are watched again: no event has told what
// became of them.
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
	for _, in := range impact.InterestsWithout(l.plan, l.ignored) {
		u := l.plan.Unit(in.Key)
		if u == nil || u.Relay != nil || len(in.Rules) == 0 {
			continue
		}
		touched.Units = append(touched.Units, u.Name)
		if u.Pass != nil { // it may have taken up all that there is
			unchanged.Units = append(unchanged.Units, u.Name)
			continue
		}
		change.Hits = append(
			change.Hits,
			engine.Hit{Unit: u.Name, Path: "the watched files", What: engine.Missed, Rule: in.Rules[0].Pattern},
		)
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

// watched translates what the watcher tells into the engine's events.
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
		l.touched(now, ev)
	case watch.Change:
		l.changed(now, ev)
	case watch.Watching:
		if l.first != nil {
			first := l.first
			l.first = nil
			l.step(now, first)
			if !l.once { // nothing is rerun on a save then
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
			if unit := impact.OutputsOf(key); unit != "" { // made, and gone again
				l.outputsMoved(unit, now, nil)
			}
		}
		l.unchanged(now, ev)
	case watch.CaughtUp:
		l.caughtUp(ev.Number)
	case watch.Notice:
		l.note(logbook.Entry{Tone: logbook.Stale}, ev.Text)
	}
}

// unchanged has the units hear of files that hold what they held before.
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

// maxNoticed bounds how many files a session remembers to have reported.
const maxNoticed = 10000

// tellElsewhere says of files that no rule matches, the first time for each, which rule
// comes nearest. While a process is at work the files may be its own, which no user waits
// for.
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

// atWork reports whether a unit is on its way, or has been a moment ago.
func (s *Session) atWork(now time.Time) bool {
	const moment = time.Second
	return slices.ContainsFunc(s.state().Units, func(u *engine.Unit) bool {
		lately := func(m engine.Moment) bool { return !m.IsZero() && now.Sub(s.time(m)) < moment }
		return u.Moving || lately(u.Run.EndedAt) || lately(u.Run.ReadyAt)
	})
}

// tellIdleRules says which rules match no file. It looks at files.
func (s *Session) tellIdleRules(p *plan.Plan) {
	const most = 5
	idle := impact.Idle(p)
	for i, rule := range idle {
		if i == most {
			s.note(
				logbook.Entry{Tone: logbook.Stale},
				fmt.Sprintf("%d more rules match no file; omnivigil check lists them", len(idle)-most),
			)
			return
		}
		s.note(
			logbook.Entry{Unit: rule.Unit, Tone: logbook.Stale},
			fmt.Sprintf("no file matches its rule %q (line %d)", rule.Pattern.Text, rule.Pattern.Line),
		)
	}
}
