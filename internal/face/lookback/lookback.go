// Package lookback is the history of a project in lines of text, the same for all faces. Texts of others are as they
// were recorded: a face escapes what it prints.
package lookback

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/api/past"
	"omnivigil/internal/text/format"
)

// Rows returns what was asked for, with a heading where it is needed.
func Rows(h past.History, now time.Time) []string {
	w := &rows{}
	if len(h.Units)+len(h.Runs)+len(h.Ripples)+len(h.Tests)+len(h.Trends) == 0 {
		w.say("Nothing like that is in the history, which begins %s.", day(h.From, now))
		return *w
	}
	sayUnits(w, h, now)
	for _, run := range h.Runs {
		w.say("%-12s  %s run %d  %s", day(run.Began, now), run.Unit, run.Number, runLine(run))
	}
	for _, r := range h.Ripples {
		w.say("%-12s  %-8s %9s  %s%s", day(r.Since, now), r.Outcome, format.Duration(r.Took.Duration()), r.Title,
			revisionText(r.Revision))
	}
	for _, t := range h.Tests {
		w.say("%s", pastTestLine(t, now))
	}
	if len(h.Units) > 0 && len(h.Trends) > 0 {
		w.say("")
	}
	for _, t := range h.Trends {
		sayTrend(w, t, now)
	}
	if h.More {
		w.say("and more")
	}
	return *w
}

// rows are lines of text.
type rows []string

func (r *rows) say(format string, args ...any) {
	*r = append(*r, strings.TrimRight(fmt.Sprintf(format, args...), " "))
}

// sayUnits prints a table of units.
func sayUnits(w *rows, h past.History, now time.Time) {
	if len(h.Units) == 0 {
		return
	}
	width := len("unit")
	for _, u := range h.Units {
		width = max(width, len(u.Unit))
	}
	w.say("%-*s  %6s  %6s  %12s  %12s  %12s  %s", width, "unit", "runs", "broken", "25 %", "median", "75 %", "last run")
	for _, u := range h.Units {
		took := func(s api.Seconds) string {
			if s == 0 {
				return "-"
			}
			return format.Duration(s.Duration())
		}
		w.say("%-*s  %6d  %6d  %12s  %12s  %12s  %s", width, u.Unit, u.Runs, u.Broken, took(u.Quarter), took(u.Median),
			took(u.Three), day(u.LastAt, now))
	}
}

// runLine is a run in one line: how it ended, why it ran, and what was checked out.
func runLine(r past.Run) string {
	text := r.Outcome
	if r.Took > 0 {
		text += " " + format.Duration(r.Took.Duration())
	}
	if api.State(r.Outcome).Broken() && r.Exit != "" {
		text += " (" + r.Exit + ")"
	}
	switch ran := r.Passed + r.Failed; {
	case r.Failed > 0:
		text += fmt.Sprintf(", %d of %s failed", r.Failed, format.Count(ran, "test"))
	case ran > 0:
		text += ", " + format.Count(ran, "test") + " passed"
	}
	if r.Loaded {
		text += ", under load"
	}
	if r.Because != "" {
		text += ": " + r.Because
	}
	return text + revisionText(r.Revision)
}

// revisionText is what was checked out, as a note.
func revisionText(r past.Revision) string {
	if r.Commit == "" {
		return ""
	}
	text := strings.TrimSpace(r.Branch + " " + short(r.Commit))
	if r.Clean != nil && !*r.Clean {
		text += ", with changes"
	}
	return "  (" + text + ")"
}

// short is a commit as people write it.
func short(commit string) string { return commit[:min(len(commit), 9)] }

// pastTestLine is a test in one line.
func pastTestLine(t past.Test, now time.Time) string {
	return fmt.Sprintf("%s  %s: %s", t.Unit, t.Title(), Failures(t, ", last "+day(t.LastFailed, now)))
}

// Failures tells how often a test has failed, with its confidence interval, and what else is known of its runs. Last is
// added if it has failed.
func Failures(t past.Test, last string) string {
	text := fmt.Sprintf("failed in %d of %s", t.Failed, format.Count(t.Runs, "run"))
	if t.Failed > 0 {
		text += fmt.Sprintf(" (%s to %s)%s", format.Percent(t.Low), format.Percent(t.High), last)
	}
	if t.Flaky > 0 {
		text += fmt.Sprintf(", %s without a change", format.Count(t.Flaky, "time"))
	}
	text += coincides(t)
	if t.Median > 0 {
		text += ", median " + format.Duration(t.Median.Duration())
	}
	return text
}

// coincides tells what the failures of a test coincide with, as a part of a sentence; empty: nothing.
func coincides(t past.Test) string {
	var parts []string
	for _, what := range t.Coincides {
		if what == past.Load {
			parts = append(parts, "under load")
		} else {
			parts = append(parts, "while "+what+" runs")
		}
	}
	if len(parts) == 0 {
		return ""
	}
	return ", mostly " + strings.Join(parts, " and ")
}

// sayTrend prints a trend, and what was saved and committed before it.
func sayTrend(w *rows, t past.Trend, now time.Time) {
	of := t.Unit
	if of == "" {
		of = strings.Join(t.Units, " and ")
	}
	if t.Test != "" || t.Suite != "" {
		of += " " + strings.TrimSpace(t.Suite+" "+t.Test)
	}
	dismissed := ""
	if t.Dismissed {
		dismissed = "  (dismissed)"
	}
	w.say("trend %d  %s  %s: %s%s", t.ID, day(t.Since, now), of, t.Text, dismissed)
	if len(t.Files) > 0 {
		w.say("         saved before: %s", format.ListOf(t.Files, len(t.Files)+t.MoreFiles))
	}
	if t.From != "" || t.To != "" {
		w.say("         commits: %s..%s", short(t.From), short(t.To))
	}
}

// day is a time that may be on another day, with the year if it is not this one.
func day(t, now time.Time) string {
	switch {
	case t.IsZero():
		return "never"
	case t.Year() != now.Year():
		return t.Format("2 Jan 2006")
	}
	return format.Moment(t, now)
}

// Since reads a time in the past: a duration before now such as 10m or 14d, a time of day such as 14:05, or a date such
// as 2030-05-04, also with a time of day in RFC 3339. An empty text is the zero time.
func Since(text string, now time.Time) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	if d, err := time.ParseDuration(text); err == nil {
		return now.Add(-d), nil
	}
	if days, err := strconv.Atoi(strings.TrimSuffix(text, "d")); err == nil && strings.HasSuffix(text, "d") {
		return now.AddDate(0, 0, -days), nil
	}
	for _, form := range []string{"15:04:05", "15:04"} {
		if t, err := time.ParseInLocation(form, text, now.Location()); err == nil {
			return time.Date(now.Year(), now.Month(), now.Day(), t.Hour(), t.Minute(), t.Second(), 0, now.Location()), nil
		}
	}
	for _, form := range []string{time.RFC3339, time.DateOnly} {
		if t, err := time.ParseInLocation(form, text, now.Location()); err == nil {
			return t, nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is neither a duration such as 10m nor a time such as 14:05", text)
}
