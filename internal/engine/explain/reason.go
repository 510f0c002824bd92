package explain

import (
	"cmp"
	"slices"
	"strconv"
	"strings"
	"time"

	"omnivigil/internal/engine"
	"omnivigil/internal/plan"
	"omnivigil/internal/text/format"
)

// Reasons tells why a unit acts: "fares.csv changed; tides is ready again".
func Reasons(all []engine.Reason) string {
	if len(all) == 1 {
		return Reason(all[0])
	}
	texts := make([]string, len(all))
	for i, r := range all {
		texts[i] = Reason(r)
	}
	return strings.Join(texts, "; ")
}

// Cause describes what opened a ripple; empty for a change, which its files describe.
func Cause(c engine.Cause) string { return Reason(c.Reason) }

// opening is Reasons for the causes of a ripple; of files only the names are used.
func opening(all []engine.Reason) string {
	if len(all) == 1 && all[0].Kind == engine.ReasonFiles {
		return format.ListOf(all[0].Files, all[0].Count)
	}
	return Reasons(all)
}

// Reason describes one reason why a unit acts, or a ripple was opened.
func Reason(r engine.Reason) string {
	switch r.Kind {
	case engine.ReasonNone:
		return ""
	case engine.ReasonProjectStart:
		return "the project starts"
	case engine.ReasonFiles:
		return files(r)
	case engine.ReasonChangedBack:
		return "files changed and changed back"
	case engine.ReasonLeftUndone:
		return "an earlier run left it undone"
	case engine.ReasonFollowed:
		if r.Ends {
			return r.Unit + " finished again"
		}
		return r.Unit + " is ready again"
	case engine.ReasonNeeded:
		return r.Unit + " needs it"
	case engine.ReasonReleased:
		return r.Unit + " is no longer blocked"
	case engine.ReasonLateReady:
		return r.Unit + " is ready after all"
	case engine.ReasonReadyAgain:
		return r.Unit + " is ready again"
	case engine.ReasonTookUp:
		return r.Unit + " took up a change by itself"
	case engine.ReasonCrash:
		return r.Unit + " " + end(*r.End, time.Time{})
	case engine.ReasonRetry:
		return r.Unit + " crashed: " + exited(*r.End.Exit)
	case engine.ReasonCrashedOften:
		return "it crashed, " + times(r.Count)
	case engine.ReasonSettings:
		return settings(*r.Settings)
	case engine.ReasonNewUnit:
		return "it is new in the settings"
	case engine.ReasonUnitSettings:
		return r.Text
	}
	return asked(r)
}

// asked is Reason for a request.
func asked(r engine.Reason) string {
	switch r.Kind {
	case engine.ReasonAskedStart:
		return "you asked to start " + format.List(r.Units)
	case engine.ReasonAskedStop:
		return "you asked to stop " + format.List(r.Units)
	case engine.ReasonAskedOnly:
		if len(r.Units) == 0 {
			return "you asked to run everything"
		}
		return "you asked to run only " + format.List(r.Units)
	case engine.ReasonAskedRestart:
		return "you asked to restart " + listOr(r.Units, "everything")
	case engine.ReasonAskedFor:
		return "you asked to run " + format.List(r.Units) + " for " + files(r)
	case engine.ReasonAskedOnce:
		if len(r.Words) == 0 {
			return "you asked for the plain command once"
		}
		return "you asked for one run with " + format.Typed(r.Words)
	case engine.ReasonArguments:
		if len(r.Words) == 0 {
			return "you took the added arguments away"
		}
		return "you added " + format.Typed(r.Words)
	case engine.ReasonNarrowed:
		return "you narrowed " + format.List(r.Units) + " to " + r.Text
	case engine.ReasonWidened:
		return "you widened " + format.List(r.Units) + " to all tests"
	case engine.ReasonNarrowPassed:
		text := cmp.Or(r.Text, "some tests") + " passed, so all run again"
		if r.Unit != "" {
			text = r.Unit + ": " + text
		}
		return text
	case engine.ReasonResumed:
		return listOr(r.Units, "all reactions") + " resumed"
	}
	return "you asked"
}

// listOr lists units, or returns the text for no names.
func listOr(units []string, all string) string {
	if len(units) == 0 {
		return all
	}
	return format.List(units)
}

// files describes what happened to which files.
func files(r engine.Reason) string {
	if r.Count == 1 {
		switch r.What {
		case "written", "":
		case engine.Missed:
			return r.Files[0] + " may have changed"
		default:
			return r.Files[0] + " was " + r.What
		}
	}
	return format.ListOf(r.Files, r.Count) + " changed"
}

// settings describes what an edit of the settings means for units.
func settings(d plan.Difference) string {
	var parts []string
	for _, p := range []struct {
		names []string
		what  string
	}{{slices.Concat(d.Changed, d.Adjusted), "changed"}, {d.Added, "new"}, {d.Removed, "gone"}} {
		if len(p.names) > 0 {
			parts = append(parts, format.List(p.names)+" "+p.what)
		}
	}
	if d.Variables != "" {
		parts = append(parts, d.Variables+" changed")
	}
	return "settings reloaded: " + strings.Join(parts, ", ")
}

func times(n int) string {
	if n == 1 {
		return "once"
	}
	return strconv.Itoa(n) + " times"
}
