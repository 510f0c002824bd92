// Package summary summarizes a session, in the few lines that are printed when the project has ended and the terminal
// is free again.
package summary

import (
	"fmt"
	"io"
	"strings"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/text/escape"
	"omnivigil/internal/text/format"
)

// Say describes a session in at most ten lines: its duration, the saves, the longest ripple, how each unit ended,
// what is broken, where the logs are.
func Say(w io.Writer, snap *api.Snapshot, now time.Time) {
	for _, line := range accountOf(snap, now) {
		fmt.Fprintln(w, escape.Text(line))
	}
}

func accountOf(snap *api.Snapshot, now time.Time) []string {
	runs := 0
	for _, u := range snap.Units {
		runs += u.Run.Number
	}
	lines := []string{
		fmt.Sprintf(
			"%s ran for %s: %s, %s, %s ended broken.",
			snap.Project.Name,
			format.Duration(now.Sub(snap.Project.Since)),
			format.Count(len(snap.Saves), "save"),
			format.Count(runs, "run"),
			format.Count(snap.Broken, "ripple"),
		),
	}
	if l := snap.Longest; l.ID > 0 {
		lines = append(
			lines,
			fmt.Sprintf(
				"The longest from a save to rest: %s, %s after %s.",
				l.Title,
				l.Outcome,
				format.Duration(l.Took.Duration()),
			),
		)
	}
	lines = append(lines, endings(snap)...)
	if snap.LogProblem != "" {
		return append(lines, "There are no logs: "+snap.LogProblem)
	}
	return append(lines, "Logs: "+snap.Project.Logs)
}

// endings describe how units ended, in one line for each kind of end, broken ones first.
func endings(snap *api.Snapshot) []string {
	const broken, killed, stopped, done, idle = "broken", "killed, as they did not end in time", "stopped", "done",
		"never ran"
	by := map[string][]string{}
	for _, u := range snap.Units {
		switch {
		case u.State.Broken():
			by[broken] = append(by[broken], brokenWords(u))
		case u.Run.Number == 0:
			by[idle] = append(by[idle], u.Name)
		case u.Run.Exit != nil && strings.Contains(u.Run.Exit.Signal, "KILL"):
			by[killed] = append(by[killed], u.Name)
		case u.State == api.Done:
			by[done] = append(by[done], u.Name)
		default:
			by[stopped] = append(by[stopped], u.Name)
		}
	}
	const most = 3
	var lines []string
	for i, words := range by[broken] {
		if i == most-1 && len(by[broken]) > most {
			words = listed(by[broken][i:])
		}
		if i < most {
			lines = append(lines, broken+": "+words)
		}
	}
	for _, how := range []string{killed, stopped, done, idle} {
		if len(by[how]) > 0 {
			lines = append(lines, how+": "+listed(by[how]))
		}
	}
	return lines
}

// brokenWords describe what is broken of a unit.
func brokenWords(u *api.Unit) string {
	switch {
	case u.Report.Trouble != "":
		return u.Name + " (" + u.Report.Trouble + ")"
	case u.Run.Exit != nil:
		return u.Name + " " + string(u.State) + " (" + u.Run.Exit.Text + ")"
	}
	return u.Name + " " + string(u.State)
}

// listed lists names, as many as fit into a line, and the number of the others.
func listed(names []string) string {
	const room = 100
	text := ""
	for i, name := range names {
		if len(text)+len(name) > room && i > 0 {
			return fmt.Sprintf("%s and %d more", text, len(names)-i)
		}
		if i > 0 {
			text += ", "
		}
		text += name
	}
	return text
}
