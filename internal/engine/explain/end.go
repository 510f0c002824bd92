package explain

import (
	"cmp"
	"fmt"
	"strconv"
	"time"

	"omnivigil/internal/engine"
	"omnivigil/internal/text/format"
)

// signals are the meanings of the common deadly signals.
var signals = map[string]string{
	"SIGSEGV": "segmentation fault",
	"SIGBUS":  "bus error",
	"SIGILL":  "illegal instruction",
	"SIGFPE":  "arithmetic error",
	"SIGABRT": "aborted",
	"SIGPIPE": "broken pipe",
	"SIGINT":  "interrupted",
	"SIGHUP":  "hung up",
	"SIGQUIT": "quit",
	"SIGTERM": "terminated",
	"SIGKILL": "killed",
}

// Exit describes how a process ended: "exit 3", "segmentation fault (SIGSEGV)".
func Exit(x engine.Exit) string {
	switch {
	case x.Signal != "":
	case x.Code == 127: // the meaning of these two is in POSIX, XCU 2.8.2
		return "exit 127, command not found?"
	case x.Code == 126:
		return "exit 126, not executable?"
	default:
		return "exit " + strconv.Itoa(x.Code)
	}
	if words, ok := signals[x.Signal]; ok {
		return words + " (" + x.Signal + ")"
	}
	return x.Signal
}

// exited is Exit for an end that was not requested.
func exited(x engine.Exit) string {
	switch {
	case x.OK():
		return "ended by itself (exit 0)"
	case x.Signal == "SIGKILL":
		return "killed (SIGKILL), out of memory?"
	}
	return Exit(x)
}

// where tells where a result was made that comes from the team's share.
func where(by string) string {
	if by == "" {
		return ""
	}
	return " at " + by
}

// end describes how a run ended, at a time of the wall clock.
func end(x engine.End, now time.Time) string {
	lived := format.Duration(x.Lived)
	switch problem := endProblem(x); {
	case x.Restored:
		return "restored from " + format.RunOf(x.MadeBy, format.Moment(x.Reused, now)) +
			": everything that it depends on is as it was then"
	case !x.Reused.IsZero():
		return "reused: it ran at " + format.Moment(x.Reused, now) + where(x.MadeBy) +
			", and nothing that it depends on has changed"
	case x.State == engine.Crashed:
		text := "crashed: " + exited(*x.Exit) + " after " + lived
		if problem != "" {
			text += ", " + problem
		}
		if len(x.Suspects) > 0 {
			text += "; changed since it last ran well: " + format.List(x.Suspects)
		}
		return text
	case x.State == engine.Failed && x.Exit == nil:
		return "does not start: " + problem
	case x.State == engine.Failed && problem != "":
		return "failed: " + problem + " (" + Exit(*x.Exit) + " after " + lived + ")"
	case x.State == engine.Failed:
		return "failed: " + Exit(*x.Exit) + " after " + lived
	case x.State == engine.Done:
		return "done in " + lived
	case problem != "":
		return "could not be killed"
	case x.Exit == nil:
		return "stopped before it had started"
	}
	return "stopped after " + lived
}

// endProblem describes what went wrong with an ended run, apart from its exit; empty: nothing is known.
func endProblem(x engine.End) string {
	problem := Problem(x.Problem)
	if x.State == engine.Crashed && x.ReadyAt.IsZero() {
		if problem == "" {
			return "before it was ready"
		}
		return "before it was ready: " + problem
	}
	return problem
}

// Problem tells why a run failed if its exit does not; empty: unknown.
func Problem(p engine.Problem) string {
	switch p.Kind {
	case engine.ProblemTold:
		return p.Text
	case engine.ProblemLate:
		text := "not ready within " + format.Duration(p.Within) + ": waited for " +
			cmp.Or(p.Text, "its first pass to end")
		if p.Seen != "" {
			text += ", last seen: " + p.Seen
		}
		return text
	case engine.ProblemReported:
		return cmp.Or(Report(*p.Report), warnings(*p.Report), "its output reports a failure")
	case engine.ProblemLimit:
		return "it took longer than its limit of " + format.Duration(p.Within) + " and was ended"
	case engine.ProblemSurvived:
		return "the system did not end it"
	}
	return ""
}

// Failed tells why a broken unit's newest run failed: by its report, its problem, or its exit.
func Failed(u *engine.Unit) string {
	report := ""
	if u.Failure != nil && u.Failure.Report != nil {
		report = Report(*u.Failure.Report)
	}
	return cmp.Or(Problem(u.Run.Problem), report, Exit(u.Run.Exit))
}

// HowFailed describes in full how a broken unit's newest run failed: "failed: 2 tests failing: ... (exit 1 after
// 2.3 s)". Empty: it is not broken.
func HowFailed(u *engine.Unit) string {
	run := u.Run
	switch {
	case u.Failure == nil:
		return ""
	case !u.Failure.Ran:
		return u.State.String()
	case run.EndedAt.IsZero() && u.Pass.Number > 0 && !u.Pass.Good && u.Pass.Saw != "":
		return fmt.Sprintf("pass %d failed: %s", u.Pass.Number, u.Pass.Saw)
	case run.EndedAt.IsZero():
		return "failed: " + Problem(run.Problem) + "; it keeps running"
	}
	x := engine.End{
		State: u.State, Problem: run.Problem, ReadyAt: run.ReadyAt, Lived: run.EndedAt.Wall.Sub(run.OrderedAt.Wall),
	}
	if run.PID != 0 || u.State == engine.Crashed {
		x.Exit = &run.Exit
	}
	if x.Problem.IsZero() && u.Failure.Report != nil {
		x.Problem = engine.Problem{Kind: engine.ProblemReported, Report: u.Failure.Report}
	}
	return end(x, run.EndedAt.Wall)
}

// Broken describes how a unit is broken, with its name: "berths crashed (exit 3)".
func Broken(u *engine.Unit) string {
	if u.Failure == nil {
		return u.Name + " " + u.State.String()
	}
	text := failure(u.Name, *u.Failure)
	if u.Narrowed != "" {
		text += " (narrowed to " + u.Narrowed + notRun(u.Report.NotRun(u.Run.Number)) + ")"
	}
	return text
}

// failure describes how a unit is broken, for Broken and for the verdict.
func failure(unit string, f engine.Failure) string {
	if !f.Ran {
		return unit + " " + f.State.String()
	}
	switch {
	case f.Report == nil:
	case f.State == engine.Crashed:
		return unit + " " + f.State.String() + " (" + exited(f.Exit) + "): " + Report(*f.Report)
	default:
		return unit + ": " + Report(*f.Report)
	}
	return unit + " " + f.State.String() + " (" + cmp.Or(Problem(f.Problem), exited(f.Exit)) + ")"
}
