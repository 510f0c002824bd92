package session

import (
	"omnivigil/internal/api"
	"omnivigil/internal/engine"
	"omnivigil/internal/engine/explain"
	"omnivigil/internal/session/snapshot"
	"omnivigil/internal/session/verdicts"
)

// judge records the verdict, when it has become broken or stale and nothing is moving, and when it is current again.
// Only the loop calls it.
func (l *loop) judge(snap *engine.Snapshot) {
	v := api.Verdict{Word: snapshot.VerdictWord(snap), Text: explain.Verdict(snap)}
	if v != l.judged {
		l.judged = v
		at := snap.At.Wall
		if at.IsZero() { // nothing has happened yet
			at = l.showing.about.Since
		}
		added, is := l.past.Add(at, api.Verdict{Word: v.Word, Text: l.clean(v.Text)})
		if is && l.history != nil {
			l.history.Judged(added)
		}
	}
	l.showing.mu.Lock()
	was := l.showing.trouble
	l.showing.mu.Unlock()
	now := was
	switch snap.Verdict.Word {
	case engine.VerdictBroken, engine.VerdictStale:
		now = was || !snap.Quitting && snap.AtRest(nil, nil)
	case engine.VerdictCurrent, engine.VerdictStopped:
		now = false
	}
	if now == was {
		return
	}
	l.showing.mu.Lock()
	l.showing.trouble = now
	l.showing.mu.Unlock()
	if c := l.plan.OnVerdict; c != nil && !l.once && snap.Verdict.Word != engine.VerdictStopped {
		l.verdicts.Tell(verdicts.News{Command: *c, Plan: l.plan, Word: v.Word, Text: l.clean(v.Text)})
	}
}
