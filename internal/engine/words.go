package engine

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

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

// words is String for an end that nobody asked for.
func (x Exit) words() string {
	switch {
	case x.OK():
		return "ended by itself (exit 0)"
	case x.Signal == "SIGKILL":
		return "killed (SIGKILL), out of memory?"
	}
	return x.String()
}

// Duration formats a length of time with as many digits as a person needs:
// "0.41 s", "12.3 s", "4 min 05 s", "2 h 07 min".
func Duration(d time.Duration) string {
	switch {
	case d < 10*time.Second:
		return fmt.Sprintf("%.2f s", d.Seconds())
	case d < time.Minute:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < time.Hour:
		return fmt.Sprintf("%d min %02d s", int(d.Minutes()), int(d.Seconds())%60)
	}
	return fmt.Sprintf("%d h %02d min", int(d.Hours()), int(d.Minutes())%60)
}

// Clock formats the time of day of a save or a run.
func Clock(t time.Time) string { return t.Format("15:04:05") }

// Moment formats a time that may be of another day than now.
func Moment(t, now time.Time) string {
	if t.YearDay() == now.YearDay() && t.Year() == now.Year() {
		return Clock(t)
	}
	return t.Format("2 Jan 15:04")
}

// because says in words which files made a unit act.
func because(hits []Hit) string {
	paths := pathsOf(hits)
	all := len(paths)
	for _, h := range hits {
		all += h.More
	}
	if all == 1 && hits[0].What != "written" {
		return paths[0] + " was " + hits[0].What
	}
	return listOf(paths, all) + " changed"
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

// List names the first two of several things and counts the rest.
func List(names []string) string {
	return listOf(names, len(names))
}

// listOf is List where names holds only the first of all.
func listOf(names []string, all int) string {
	switch {
	case all == 0:
		return "nothing"
	case all == 1:
		return names[0]
	case all == 2 && len(names) == 2:
		return names[0] + " and " + names[1]
	case len(names) == 1:
		return fmt.Sprintf("%s and %d more", names[0], all-1)
	}
	return fmt.Sprintf("%s, %s and %d more", names[0], names[1], all-2)
}

func sentence(reasons []string) string { return strings.Join(reasons, "; ") }

func times(n int) string {
	if n == 1 {
		return "once"
	}
	return strconv.Itoa(n) + " times"
}
