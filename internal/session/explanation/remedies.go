package explanation

import (
	"fmt"

	"omnivigil/internal/api"
	"omnivigil/internal/engine"
	"omnivigil/internal/text/format"
	"omnivigil/internal/text/location"
)

// remedies returns what a user can do about a failure, the most likely first.
func (s Sources) remedies(u *engine.Unit, excerpts []api.Excerpt) []api.Remedy {
	spec := s.Plan.Unit(u.Name)
	all := []api.Remedy{}
	add := func(text string) { all = append(all, api.Remedy{Text: text}) }
	for _, e := range excerpts {
		if e.File != "" {
			shown := e.Location.From(s.Shown.Project.Root)
			what := "fix "
			if e.Test != "" {
				what = "start at "
			}
			all = append(all, api.Remedy{Text: what + shown.Place(), Location: e.Location})
			break
		}
	}
	if spec != nil && s.bySettings(u) {
		all = append(all, api.Remedy{
			Text:     fmt.Sprintf("check %s in the settings", suspectSetting(u)),
			Location: location.Location{File: s.Shown.Project.File, Line: spec.Line},
		})
	}
	if u.Run.Exit.Signal == "SIGKILL" && u.Run.Problem.IsZero() {
		add("look in the system's log for a process that was killed because memory ran out")
	}
	switch {
	case !u.RetryAt.IsZero():
		add("wait: it restarts by itself at " + format.Clock(u.RetryAt.Wall))
	case spec == nil:
	case len(spec.Watch)+len(spec.Reactions) > 0:
		add("save a file that affects it, and it " + spec.Verb() + " by itself")
	case len(spec.Follows) > 0:
		add("it " + spec.Verb() + " when " + format.List(spec.Follows) + " has finished again")
	default:
		add("no save affects it: only a request " + spec.Verb() + " it")
	}
	if u.Narrowed != "" {
		all = append(all, api.Remedy{Text: "run all of its tests again", Action: api.Widen})
	}
	return append(all, api.Remedy{Text: againNow(u), Action: api.Restart})
}

// bySettings reports whether the unit's settings may be the reason: its program was not started, or what it waits for
// did not come.
func (s Sources) bySettings(u *engine.Unit) bool {
	const notExecutable, notFound = 126, 127 // POSIX, XCU 2.8.2
	code := u.Run.Exit.Code
	return u.Run.Problem.Kind == engine.ProblemLate || u.Run.PID == 0 && u.Run.Number > 0 ||
		u.Run.Exit.Signal == "" && (code == notExecutable || code == notFound)
}

// suspectSetting is the setting to look at first.
func suspectSetting(u *engine.Unit) string {
	if u.Run.Problem.Kind != engine.ProblemLate {
		return "`run`"
	}
	if u.Run.Problem.Text == "" {
		return "`pass`"
	}
	return "`ready`"
}

func againNow(u *engine.Unit) string {
	if u.Kind.Ends() {
		return "rerun it now"
	}
	return "restart it now"
}
