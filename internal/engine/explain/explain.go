// Package explain puts what the engine decides into words: the verdict, why units act, wait or are stale, how runs
// ended, and what happened, as plain technical English without the name of a unit where a face shows it next to the
// text.
//
// The engine has no words, so that a decision can be compared, counted and tested without reading prose; this is the
// only package that writes them. It does not mask secrets or escape what acts on a terminal: package session does,
// since parts of a text come from files and programs. Every function is pure. Start reading at Fact and Verdict.
package explain

import (
	"cmp"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"omnivigil/internal/engine"
	"omnivigil/internal/text/format"
)

// Fact returns a fact as a sentence without its unit: "restarts: rules.toml changed".
func Fact(f engine.Fact) string {
	switch f.Kind {
	case engine.FactRunStarted:
		if f.Command != "" {
			return f.Verb + ": " + Reasons(f.Reasons) + "; it runs " + f.Command
		}
		return f.Verb + ": " + Reasons(f.Reasons)
	case engine.FactRunReady:
		if f.Took == 0 {
			return "is ready again"
		}
		return "is ready after " + format.Duration(f.Took)
	case engine.FactRunLate:
		return "failed: " + Problem(f.Problem) + "; it keeps running"
	case engine.FactRunSlow:
		return "is starting slowly: its processes are busy" + load(f.Over.Run.Pace.Load) + ", it may take " +
			format.Duration(f.Took) + " more"
	case engine.FactRunLong:
		return "has been running for " + format.Duration(f.Took) + ", usually " + format.Duration(f.Over.Run.Pace.Usual)
	case engine.FactRunEnded:
		return end(*f.Over.End, f.At)
	case engine.FactRunKilled:
		return "killed: did not exit within " + format.Duration(f.Took)
	case engine.FactRunStuck:
		return "survived SIGKILL: the system holds process " + strconv.Itoa(f.PID)
	case engine.FactStepStarted:
		return "prepares: " + f.Command
	case engine.FactPassStarted:
		return "begins pass " + strconv.Itoa(f.Pass)
	case engine.FactPassEnded:
		if f.State.Broken() {
			return fmt.Sprintf("pass %d failed%s: %s", f.Pass, after(f.Took), Problem(f.Problem))
		}
		return fmt.Sprintf("pass %d ended well%s", f.Pass, after(f.Took))
	case engine.FactPassMissed:
		return missed(f.Since)
	case engine.FactSignalSent:
		return "is sent " + f.Signal + ": " + Reasons(f.Reasons)
	case engine.FactTargetMissing:
		return "skipped " + format.List(f.Files) + ": " + Problem(f.Problem) + " does not exist"
	case engine.FactRippleOpened:
		return opening(f.Reasons)
	case engine.FactRippleRested:
		return outcome(f)
	case engine.FactUnitStale:
		return "is stale: " + block(*f.Block)
	case engine.FactUnitCurrent:
		return "is current"
	}
	return projectFact(f)
}

// load describes the load average of the machine, if it is known.
func load(average float64) string {
	if average == 0 {
		return ""
	}
	return fmt.Sprintf(" (load %.0f)", average)
}

// Pace describes what is unusual about the duration of a live run: "slow (load 23)"; empty: nothing.
func Pace(p engine.Pace) string {
	switch {
	case p.Slow:
		return "slow" + load(p.Load)
	case p.Usual > 0:
		return "usually " + format.Duration(p.Usual)
	}
	return ""
}

// after returns how long something took; empty: that is unknown.
func after(took time.Duration) string {
	if took == 0 {
		return ""
	}
	return " after " + format.Duration(took)
}

// projectFact is Fact for facts about the project, or about what a unit reacts to.
func projectFact(f engine.Fact) string {
	who := "all reactions"
	if f.Unit != "" {
		who = ""
	}
	switch f.Kind {
	case engine.FactLoopStopped:
		return loopStopped(f) + "; changes of " + format.List(f.Files) + " are ignored from now on"
	case engine.FactLoopForgotten:
		return "reacts to all its files again"
	case engine.FactSettingsUsed:
		return cmp.Or(Reasons(f.Reasons), "settings reloaded")
	case engine.FactSettingsBad:
		return settingsBroken + Problem(f.Problem)
	case engine.FactUnwatched:
		if f.Problem.IsZero() {
			return "files are watched again"
		}
		return "files are not watched: " + Problem(f.Problem)
	case engine.FactPaused:
		return cmp.Or(who, "is") + " paused: changes are kept and acted on later"
	case engine.FactResumed:
		return strings.TrimSpace(who + " resumed")
	}
	return string(f.Kind)
}

// Order returns an order with everything in it, for recordings: the name of its type, and its fields or the fact in
// words. Orders with different effects have different texts.
func Order(o engine.Order) string {
	name := reflect.TypeOf(o).Name()
	if t, ok := o.(engine.Tell); ok {
		f := t.Fact
		return fmt.Sprintf("%s %s %s run %d pass %d ripple %d: %s", name, f.Kind, f.Unit, f.Run, f.Pass, f.Ripple,
			Fact(f))
	}
	return fmt.Sprintf("%s %+v", name, o)
}

const settingsBroken = "the settings just saved have an error and are not used: "

// Because returns the reason of a fact; empty: it is unknown, or part of the fact's text.
func Because(f engine.Fact) string {
	switch {
	case f.Kind == engine.FactRippleOpened:
		return opening(f.Reasons)
	case f.Over.Ripple != nil && f.Kind == engine.FactRippleRested:
		return durations(f.Over.Ripple)
	case f.Block != nil:
		return block(*f.Block)
	}
	return Reasons(f.Reasons)
}

// Wrong returns the problem that a fact reports; empty: none.
func Wrong(f engine.Fact) string {
	switch {
	case f.Over.End != nil:
		return endProblem(*f.Over.End)
	case f.Over.Ripple != nil && f.Kind == engine.FactRippleRested:
		return Detail(f.Over.Ripple)
	}
	return Problem(f.Problem)
}

// outcome describes how a ripple ended, and why or how long its runs took.
func outcome(f engine.Fact) string {
	text := f.Outcome.String() + " after " + format.Duration(f.Took)
	if detail := cmp.Or(Detail(f.Over.Ripple), durations(f.Over.Ripple)); detail != "" {
		text += ": " + detail
	}
	return text
}

// durations are the durations of each unit's last run.
func durations(r *engine.Ripple) string {
	if len(r.Runs) == 0 && r.Cause.Kind == engine.CauseChange {
		return "nothing had to act"
	}
	var parts []string
	for i, ref := range r.Runs {
		if !slices.ContainsFunc(r.Runs[i+1:], func(later *engine.RunRef) bool { return later.Unit == ref.Unit }) {
			text := ref.Unit
			if ref.Pass == 0 || ref.Took > 0 { // otherwise its duration is unknown
				text += " " + format.Duration(ref.Took)
			}
			parts = append(parts, text)
		}
	}
	return strings.Join(parts, ", ")
}

// Title describes what opened a ripple, in a few words.
func Title(r *engine.Ripple) string { return opening([]engine.Reason{r.Opening()}) }

// Detail tells why a ripple's outcome is not current; empty: it is.
func Detail(r *engine.Ripple) string {
	parts := make([]string, len(r.Troubles))
	for i, t := range r.Troubles {
		switch {
		case t.Crashed > 0:
			parts[i] = fmt.Sprintf("%s crashed %s after it was ready", t.Unit, format.Duration(t.Crashed))
		case t.Failure != nil:
			parts[i] = failure(t.Unit, *t.Failure)
		case t.Ran:
			parts[i] = t.Unit + " is stale: " + block(*t.Block)
		default:
			parts[i] = t.Unit + " did not run: " + block(*t.Block)
		}
	}
	return strings.Join(parts, ", ")
}

// loopStopped describes what set a unit off repeatedly, or the round of a loop.
func loopStopped(f engine.Fact) string {
	switch {
	case !f.Loop.Alone():
		return "is in a loop: " + Loop(f.Loop)
	case f.Verb == "":
		return "writes files that it watches and does not pick up: " + format.List(f.Files)
	}
	return "writes what makes it " + infinitive(f.Verb) + ": " + format.List(f.Files)
}

// infinitive is "restart" for "restarts".
func infinitive(verb string) string { return strings.TrimSuffix(verb, "s") }

// Loop describes the round of a loop.
func Loop(l *engine.Loop) string {
	var parts []string
	for i, link := range l.Round {
		text := "writes " + format.List(link.Files)
		if len(link.Files) == 0 {
			text = "is followed by " + link.Unit
		}
		if i == 0 {
			text = By(link) + " " + text
		} else {
			text = By(link) + " " + l.Round[i-1].Does + " and " + text
		}
		parts = append(parts, text)
	}
	if n := len(l.Round); n > 0 {
		parts = append(parts, l.Round[n-1].Unit+" "+l.Round[n-1].Does)
	}
	return strings.Join(parts, ", ")
}

// By names the unit that set off the unit of a link.
func By(link engine.LoopLink) string { return strings.Join(link.By, " or ") }

// Doubt describes a doubt: "build compares file times, version.h is older than its last run".
func Doubt(d engine.Doubt) string {
	switch d.Kind {
	case engine.DoubtOlder:
		return fmt.Sprintf("%s compares file times, %s is older than its last run", d.Unit, doubtful(d))
	case engine.DoubtMissed:
		return d.Unit + " compares file times, and its files were not watched for a while"
	case engine.DoubtDuring:
		return fmt.Sprintf("%s was saved while %s ran", doubtful(d), d.Program)
	case engine.DoubtUncovered:
		return fmt.Sprintf("%s has read %s, which no rule covers", d.Unit, doubtful(d))
	case engine.DoubtNeed:
		return fmt.Sprintf("%s needs %s, which is stopped or does not answer", d.Unit, d.Need)
	}
	return fmt.Sprintf("%s was changed by something other than %s", doubtful(d), d.Unit)
}

func doubtful(d engine.Doubt) string { return cmp.Or(d.File, "a file") }

// DoubtEnds describes what ends a doubt.
func DoubtEnds(d engine.Doubt) string {
	switch d.Kind {
	case engine.DoubtOutput:
		return "rerun " + d.Unit
	case engine.DoubtNeed:
		return "start " + d.Need + " again"
	case engine.DoubtUncovered:
		return "add " + doubtful(d) + " to what " + d.Unit + " watches or ignores"
	case engine.DoubtMissed:
		return "have all outputs of " + d.Unit + " made again"
	}
	return "touch " + doubtful(d) + ", or have all outputs of " + d.Unit + " made again"
}

// plural returns one of two texts for a number.
func plural(n int, one, several string) string {
	if n == 1 {
		return one
	}
	return several
}

// Queued describes what a unit in line for a job waits for; alone: it is to run alone.
func Queued(j engine.Jobs, alone bool) string {
	switch {
	case j.Taken == 0:
		return "queued behind others"
	case j.Alone:
		return "queued until " + j.By[0] + " has finished, which runs alone"
	case alone:
		return "queued to run alone, after " + format.ListOf(j.By, j.Taken)
	case j.Taken < j.Now:
		return "queued behind one that runs alone"
	case j.Now < j.Most:
		return fmt.Sprintf("queued: %d of %d jobs may run while other programs use processors; %s", j.Now, j.Most,
			format.ListOf(j.By, j.Taken)+plural(j.Taken, " has it", " have them"))
	}
	return fmt.Sprintf("queued: all %d jobs are taken, by %s", j.Most, format.ListOf(j.By, j.Taken))
}

// Refusal tells why a request was not carried out; empty: it was.
func Refusal(r engine.Refusal) string {
	switch r.Kind {
	case engine.RefusedNot:
		return ""
	case engine.RefusedEnding:
		return "the project is about to end"
	case engine.RefusedUnknownUnit:
		return "there is no unit " + r.Unit
	case engine.RefusedService:
		return r.Unit + " is a service, which has no tests to choose from"
	case engine.RefusedNoUnit:
		switch r.Request {
		case engine.AddWords, engine.RunWith:
			return "no unit was named to add arguments to"
		case engine.Narrow:
			return "narrowing needs units and cases"
		}
		return "no unit was named to " + string(r.Request)
	}
	return "unknown request: " + string(r.Request)
}

func missed(save time.Time) string { return "has not picked up the save of " + format.Clock(save) }
