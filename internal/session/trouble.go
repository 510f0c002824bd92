package session

import (
	"fmt"
	"os"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/engine"
	"omnivigil/internal/engine/explain"
	"omnivigil/internal/output/logbook"
	"omnivigil/internal/plan"
	"omnivigil/internal/process"
	"omnivigil/internal/session/snapshot"
)

// judge records the verdict, when it has become broken or stale and nothing is moving, and when it is current again.
// Only the loop calls it.
func (l *loop) judge(snap *engine.Snapshot) {
	v := api.Verdict{Word: snapshot.VerdictWord(snap), Text: explain.Verdict(snap)}
	if v != l.judged {
		l.judged = v
		l.past.Add(snap.At.Wall, api.Verdict{Word: v.Word, Text: l.clean(v.Text)})
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
		select { // only the newest verdict matters
		case <-l.verdicts:
		default:
		}
		l.verdicts <- verdictNews{*c, l.plan, v.Word, l.clean(v.Text)}
	}
}

// verdictNews is a verdict for which a command is run.
type verdictNews struct {
	command plan.Command
	plan    *plan.Plan
	word    api.VerdictWord
	text    string
}

// verdictPatience is the time limit of the command for a verdict.
const verdictPatience = 30 * time.Second

// followVerdicts runs the project's command for each verdict, one after another.
func (s *Session) followVerdicts() {
	for {
		select {
		case v := <-s.verdicts:
			if problem := s.runForVerdict(v); problem != "" {
				s.note(logbook.Entry{Tone: logbook.Stale}, fmt.Sprintf("on_verdict %s: %s", v.command, problem))
			}
		case <-s.stopped:
			return
		}
	}
}

// runForVerdict returns what went wrong, or "".
func (s *Session) runForVerdict(v verdictNews) string {
	exited := make(chan process.Exit, 1)
	env := append(os.Environ(), "OMNIVIGIL_VERDICT="+string(v.word), "OMNIVIGIL_VERDICT_TEXT="+v.text)
	process, err := s.spawner.Start(process.Spec{
		Name:     "on_verdict",
		Argv:     v.command.Argv(),
		Dir:      v.plan.Root,
		Env:      append(env, s.marks...),
		Terminal: process.ShownTerminal,
		Cols:     120,
		Rows:     40,
		Output:   func([]byte) {},
		Exited:   func(x process.Exit) { exited <- x },
	})
	if err != nil {
		return s.clean(err.Error())
	}
	select {
	case x := <-exited:
		if code := engine.Exit(x); !code.OK() {
			return explain.Exit(code)
		}
		return ""
	case <-time.After(verdictPatience):
		process.Signal("KILL")
		return fmt.Sprintf("it took more than %s and was killed", verdictPatience)
	case <-s.stopped:
		process.Signal("KILL")
		return ""
	}
}
