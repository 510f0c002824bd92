package engine

import (
	"cmp"
	"fmt"
	"strconv"
	"strings"
	"time"

	"omnivigil/internal/text/format"
)

// Words returns a fact as a sentence without its unit: "restarts: rules.toml changed".
func (f Fact) Words() string {
	switch f.Kind {
	case FactRunStarted:
		if f.Command != "" {
			return f.Verb + ": " + f.Because + "; it runs " + f.Command
		}
		return f.Verb + ": " + f.Because
	case FactRunReady:
		if f.Took == 0 {
			return "is ready again"
		}
		return "is ready after " + format.Duration(f.Took)
	case FactRunLate:
		return "failed: " + f.Problem + "; it keeps running"
	case FactRunEnded:
		return f.endWords()
	case FactRunKilled:
		return "killed: did not exit within " + format.Duration(f.Took)
	case FactRunStuck:
		return "survived SIGKILL: the system holds process " + strconv.Itoa(f.PID)
	case FactStepStarted:
		return "prepares: " + f.Command
	case FactPassStarted:
		return "begins pass " + strconv.Itoa(f.Pass)
	case FactPassEnded:
		if f.State.Broken() {
			return fmt.Sprintf("pass %d failed after %s: %s", f.Pass, format.Duration(f.Took), f.Problem)
		}
		return fmt.Sprintf("pass %d ended well after %s", f.Pass, format.Duration(f.Took))
	case FactPassMissed:
		return missedWords(f.Since)
	case FactSignalSent:
		return "is sent " + f.Signal + ": " + f.Because
	case FactTargetMissing:
		return "skipped " + format.List(f.Files) + ": " + f.Problem + " does not exist"
	case FactRippleOpened:
		return f.Because
	case FactRippleRested:
		text := f.Outcome.String() + " after " + format.Duration(f.Took)
		if detail := cmp.Or(f.Problem, f.Because); detail != "" {
			text += ": " + detail
		}
		return text
	case FactUnitStale:
		return "is stale: " + f.Because
	case FactUnitCurrent:
		return "is current"
	case FactLoopStopped:
		return f.loopWords() + "; changes of " + format.List(f.Files) + " are ignored from now on"
	case FactLoopForgotten:
		return "reacts to all its files again"
	case FactSettingsUsed:
		return cmp.Or(f.Because, "settings reloaded")
	case FactSettingsBad:
		return "the settings just saved have an error and are not used: " + f.Problem
	case FactUnwatched:
		if f.Problem == "" {
			return "files are watched again"
		}
		return "files are not watched: " + f.Problem
	case FactPaused:
		if f.Unit != "" {
			return "is paused: changes are kept and acted on later"
		}
		return "all reactions paused: changes are kept and acted on later"
	case FactResumed:
		if f.Unit != "" {
			return "resumed"
		}
		return "all reactions resumed"
	}
	return string(f.Kind)
}

// endWords tells how a run ended.
func (f Fact) endWords() string {
	lived := format.Duration(f.Took)
	switch {
	case !f.Since.IsZero():
		return "reused: it ran at " + format.Moment(f.Since, f.At) + ", and nothing that it depends on has changed"
	case f.State == Crashed:
		text := "crashed: " + f.Exit.words() + " after " + lived
		if f.Problem != "" {
			text += ", " + f.Problem
		}
		if len(f.Files) > 0 {
			text += "; changed since it last ran well: " + format.List(f.Files)
		}
		return text
	case f.State == Failed && f.Exit == nil:
		return "does not start: " + f.Problem
	case f.State == Failed && f.Problem != "":
		return "failed: " + f.Problem + " (" + f.Exit.String() + " after " + lived + ")"
	case f.State == Failed:
		return "failed: " + f.Exit.String() + " after " + lived
	case f.State == Done:
		return "done in " + lived
	case f.Problem != "":
		return "could not be killed"
	case f.Exit == nil:
		return "stopped before it had started"
	}
	return "stopped after " + lived
}

// loopWords tell by what a unit set itself off, or how a loop goes round.
func (f Fact) loopWords() string {
	switch {
	case !f.Loop.Alone():
		return "is in a loop: " + f.Loop.Words()
	case f.Verb == "":
		return "writes files that it watches and does not pick up: " + format.List(f.Files)
	}
	return "writes what makes it " + f.Verb + ": " + format.List(f.Files)
}

// String tells a fact with all that it is about, for recordings.
func (f Fact) String() string {
	return fmt.Sprintf("%s %s run %d pass %d ripple %d: %s", f.Kind, f.Unit, f.Run, f.Pass, f.Ripple, f.Words())
}

func missedWords(save time.Time) string { return "has not picked up the save of " + format.Clock(save) }

// signalWords says in words what the common deadly signals mean.
var signalWords = map[string]string{
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

// String tells the end of a process in a few words: "exit 3",
// "segmentation fault (SIGSEGV)".
func (x Exit) String() string {
	switch {
	case x.Signal != "":
	case x.Code == 127: // what a shell says by these two is in POSIX, XCU 2.8.2
		return "exit 127, command not found?"
	case x.Code == 126:
		return "exit 126, not executable?"
	default:
		return "exit " + strconv.Itoa(x.Code)
	}
	if words, ok := signalWords[x.Signal]; ok {
		return words + " (" + x.Signal + ")"
	}
	return x.Signal
}

// words is String for an end that was not requested.
func (x Exit) words() string {
	switch {
	case x.OK():
		return "ended by itself (exit 0)"
	case x.Signal == "SIGKILL":
		return "killed (SIGKILL), out of memory?"
	}
	return x.String()
}

// because says in words which files made a unit act.
func because(hits []Hit) string {
	paths := pathsOf(hits)
	all := len(paths)
	for _, h := range hits {
		all += h.More
	}
	if all == 1 && hits[0].What == Missed {
		return paths[0] + " may have changed"
	}
	if all == 1 && hits[0].What != "written" {
		return paths[0] + " was " + hits[0].What
	}
	return format.ListOf(paths, all) + " changed"
}

// pathsOf returns the paths of hits, each once.
func pathsOf(hits []Hit) []string {
	seen := make(map[string]bool, len(hits))
	paths := make([]string, 0, len(hits))
	for _, h := range hits {
		if !seen[h.Path] {
			seen[h.Path] = true
			paths = append(paths, h.Path)
		}
	}
	return paths
}

func sentence(reasons []string) string { return strings.Join(reasons, "; ") }

func times(n int) string {
	if n == 1 {
		return "once"
	}
	return strconv.Itoa(n) + " times"
}
