// Package outcomes converts cases and findings for faces, for a running project and for the newest session of one
// that has ended.
package outcomes

import (
	"omnivigil/internal/api"
	"omnivigil/internal/results/record"
	"omnivigil/internal/text/location"
)

// Case converts a case of a unit; clean makes text safe to show.
func Case(unit string, c record.TrackedCase, clean func(string) string) api.Case {
	out := api.Case{
		Unit:     unit,
		Suite:    clean(c.Suite),
		Name:     clean(c.Name),
		Status:   api.CaseStatus(c.Status),
		Change:   c.Change,
		Flaky:    c.Flaky,
		Slow:     c.Slow,
		Cached:   c.Cached,
		Run:      c.Run,
		Took:     api.Seconds(c.Took),
		Message:  clean(c.Message),
		Want:     clean(c.Want),
		Got:      clean(c.Got),
		Location: place(c.Location, clean),
		Output:   all(c.Output, clean),
	}
	for _, p := range c.Past {
		out.Past = append(
			out.Past,
			api.PastResult{Status: api.CaseStatus(p.Status), Took: api.Seconds(p.Took), Both: p.Both},
		)
	}
	return out
}

// Finding converts a finding of a unit; clean makes text safe to show.
func Finding(unit string, f record.TrackedFinding, clean func(string) string) api.Finding {
	return api.Finding{
		Unit:     unit,
		Severity: api.Severity(f.Severity.String()),
		Rule:     clean(f.Rule),
		Message:  clean(f.Message),
		Change:   f.Change,
		Run:      f.Run,
		Location: place(f.Location, clean),
		Notes:    all(f.Notes, clean),
		Trace:    f.Trace,
	}
}

func place(p location.Location, clean func(string) string) location.Location {
	return location.Location{File: clean(p.File), Line: p.Line, Column: p.Column}
}

func all(texts []string, clean func(string) string) []string {
	if len(texts) == 0 {
		return nil
	}
	out := make([]string, len(texts))
	for i, text := range texts {
		out[i] = clean(text)
	}
	return out
}
