package session

import (
	"os"
	"path/filepath"
	"slices"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/engine"
	"omnivigil/internal/output/logbook"
	"omnivigil/internal/plan"
	"omnivigil/internal/session/impact"
	"omnivigil/internal/session/outputs"
	"omnivigil/internal/session/writers"
	"omnivigil/internal/text/format"
	"omnivigil/internal/watch"
)

// madeWell records what a successful run has made, and reports patterns that match nothing.
func (s *Session) madeWell(u *plan.Unit, run int) outputs.Listing {
	l := outputs.List(s.Plan(), u)
	if vanished := s.outputs.Note(u.Name, run, l); len(vanished) > 0 {
		time.AfterFunc(impact.OutputsRest, func() { s.outputsGone(u.Name) })
	}
	var none []string
	for _, made := range l.Made {
		if made.Files == 0 {
			none = append(none, made.Pattern)
		}
	}
	if len(none) > 0 {
		entry := logbook.Entry{Unit: u.Name, Run: run, Tone: logbook.Stale}
		s.note(entry, "ended well, but its outputs "+format.List(none)+" match no file")
	}
	return l
}

// outputsGone tells the engine that outputs are missing, if some are.
func (s *Session) outputsGone(unit string) {
	if gone := s.outputs.Missing(s.root, unit); len(gone) > 0 {
		s.send(engine.OutputsGone{Unit: unit, Burst: int(s.ownBursts.Add(-1)), Files: gone})
	}
}

// outputsMoved checks outputs that have changed since a time while their task did not run. It is for the loop, and
// looks at files in another goroutine.
func (l *loop) outputsMoved(unit string, since time.Time, hits []watch.Hit) {
	_, known := l.outputs.Last(unit)
	if l.plan.Unit(unit) == nil || !known || l.runs(unit) {
		return // they are checked when the run has ended
	}
	s, p, looks := l.Session, l.plan, l.looksAtAll(since)
	go func() {
		s.outputsGone(unit)
		if len(hits) == 0 {
			return
		}
		s.writers.LookAgain(looks)
		if slices.ContainsFunc(looks, func(l *writers.Look) bool { return l.Wrote != engine.WroteNothing }) {
			return // the writer may have been one of them
		}
		for _, h := range hits {
			if !s.outputs.IsAsLeft(p.Root, unit, h.Path) && len(impact.Makers(p, h.Path)) <= 1 {
				s.send(engine.OutputChanged{Unit: unit, File: h.Path})
			}
		}
	}()
}

// runs reports whether a run of a unit is not over.
func (l *loop) runs(unit string) bool {
	live := l.live[unit]
	return live != nil && !live.IsOver()
}

// lookForWait looks for missing outputs of units, and then lets the watcher catch up again for a wait.
func (s *Session) lookForWait(wait int, units []string) {
	for _, unit := range units {
		s.outputsGone(unit)
	}
	s.watcherNow().CatchUp(wait)
}

// looksAtAll starts observing all living runs.
func (l *loop) looksAtAll(since time.Time) []*writers.Look {
	var looks []*writers.Look
	for name, live := range l.live {
		if !live.IsOver() && live.Unit.Relay == nil {
			looks = append(looks, l.writers.LookAt(since, engine.RunID{Unit: name, Run: live.Number}, live))
		}
	}
	return looks
}

// touchDoubted sets the times of the files in doubt, of these units or of all, to now.
func (s *Session) touchDoubted(units []string) (api.Answer, error) {
	now, touched := time.Now(), []string{}
	for _, d := range s.state().Doubts {
		if d.Until.IsZero() || len(units) > 0 && !slices.Contains(units, d.Unit) ||
			!filepath.IsLocal(filepath.FromSlash(d.File)) {
			continue
		}
		if err := os.Chtimes(filepath.Join(s.root, filepath.FromSlash(d.File)), now, now); err != nil {
			return api.Answer{}, api.Refuse("%s", s.clean("cannot touch "+d.File+": "+err.Error()))
		}
		touched = append(touched, d.File)
	}
	if len(touched) == 0 {
		return api.Answer{}, api.Refuse("there is no file to touch: no doubt is about the time of one")
	}
	return api.Answer{Text: "Touched " + s.clean(format.List(touched)) + "."}, nil
}
