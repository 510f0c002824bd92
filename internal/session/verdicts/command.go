package verdicts

import (
	"fmt"
	"os"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/engine"
	"omnivigil/internal/engine/explain"
	"omnivigil/internal/plan"
	"omnivigil/internal/process"
	"omnivigil/internal/session/run"
)

// News is a verdict for which a command is run.
type News struct {
	Command plan.Command
	Plan    *plan.Plan
	Word    api.VerdictWord
	Text    string
}

// Commands runs the project's command for verdicts, one after another.
type Commands struct {
	Start   func(process.Spec) (run.Process, error)
	Marks   []string                 // variables that identify the session's processes
	Clean   func(text string) string // makes text safe to show
	Failed  func(v News, how string) // called when a command has failed
	Stopped <-chan struct{}          // closed when no more are to be run
	News    chan News                // those that wait, at most one
}

// Tell runs the command for a verdict soon. Of verdicts that wait, only the newest matters. It does not block; it is
// for one goroutine.
func (c *Commands) Tell(v News) {
	select {
	case <-c.News:
	default:
	}
	c.News <- v
}

// Follow runs commands until Stopped is closed.
func (c *Commands) Follow() {
	for {
		select {
		case v := <-c.News:
			if problem := c.run(v); problem != "" {
				c.Failed(v, problem)
			}
		case <-c.Stopped:
			return
		}
	}
}

// patience is the time limit of a command.
const patience = 30 * time.Second

// run returns what went wrong, or "".
func (c *Commands) run(v News) string {
	exited := make(chan process.Exit, 1)
	env := append(os.Environ(), "OMNIVIGIL_VERDICT="+string(v.Word), "OMNIVIGIL_VERDICT_TEXT="+v.Text)
	p, err := c.Start(process.Spec{
		Name:     "on_verdict",
		Argv:     v.Command.Argv(),
		Dir:      v.Plan.Root,
		Env:      append(env, c.Marks...),
		Terminal: process.ShownTerminal,
		Cols:     120,
		Rows:     40,
		Output:   func([]byte) {},
		Exited:   func(x process.Exit) { exited <- x },
	})
	if err != nil {
		return c.Clean(err.Error())
	}
	select {
	case x := <-exited:
		if code := engine.Exit(x); !code.OK() {
			return explain.Exit(code)
		}
		return ""
	case <-time.After(patience):
		p.Signal("KILL")
		return fmt.Sprintf("it took more than %s and was killed", patience)
	case <-c.Stopped:
		p.Signal("KILL")
		return ""
	}
}
