package tui

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"omnivigil/internal/api"
)

// maxTroubles is how many are gone through.
const maxTroubles = 2000

// seekTrouble goes to the next place that a failed test or a finding names, or the one before.
func seekTrouble(m *model, by int) {
	m.later(func(ctx context.Context) then {
		cases, err := m.project.Cases(ctx, api.ResultQuery{Only: "failing", Count: maxTroubles})
		if err != nil {
			return m.report(err)
		}
		found, err := m.project.Findings(ctx, api.ResultQuery{Count: maxTroubles})
		if err != nil {
			return m.report(err)
		}
		return func() { goToTrouble(m, troubles(cases.Cases, found.Findings), by) }
	})
}

// troubles are the places of failed tests, then of errors, then of warnings.
func troubles(cases []api.Case, found []api.Finding) []trouble {
	var all []trouble
	for _, c := range cases {
		if c.File != "" {
			all = append(all, trouble{c.Location, c.Unit, c.Title() + ": " + c.Message})
		}
	}
	for _, severity := range []api.Severity{api.SeverityError, api.SeverityWarning} {
		for _, f := range found {
			if f.File != "" && f.Severity == severity && f.Change != api.GoneFinding {
				all = append(all, trouble{f.Location, f.Unit, f.Message})
			}
		}
	}
	return all
}

// firstOf is the first line of a text.
func firstOf(text string) string {
	first, _, _ := strings.Cut(text, "\n")
	return first
}

// goToTrouble makes one of the locations the current one: the next or the one before, or, by 0, the same again
// in the editor.
func goToTrouble(m *model, all []trouble, by int) {
	if len(all) == 0 {
		m.trouble, m.said = nil, "no failed test or finding has a location in a file"
		return
	}
	at := -1
	if m.trouble != nil {
		at = slices.Index(all, *m.trouble)
	}
	switch {
	case at < 0 && by < 0:
		at = len(all) - 1
	case at < 0:
		at = 0
	default:
		at = (at + by + len(all)) % len(all)
	}
	t := all[at]
	m.trouble, m.selected = &t, t.unit
	m.said = fmt.Sprintf("%d of %d  %s%s", at+1, len(all), t.From(m.snap.Project.Root).Text(), firstOf(t.text))
	if by == 0 {
		m.openPlace(t.Location)
	}
}

// editTrouble opens the place at hand in the editor, or else the first there is.
func editTrouble(m *model) {
	if m.trouble != nil {
		m.openPlace(m.trouble.Location)
		return
	}
	seekTrouble(m, 0)
}

func anyTests(m *model) bool {
	return slices.ContainsFunc(m.snap.Units, func(u *api.Unit) bool { return u.Report.Cases > 0 || u.Kind == "suite" })
}

func anyFindings(m *model) bool {
	return slices.ContainsFunc(
		m.snap.Units,
		func(u *api.Unit) bool { return u.Report.Errors+u.Report.Warnings+u.Report.Gone > 0 },
	)
}

func anyTrouble(m *model) bool {
	return slices.ContainsFunc(
		m.snap.Units,
		func(u *api.Unit) bool { return u.Report.Failed+u.Report.Errors+u.Report.Warnings > 0 },
	)
}

// resultsVersion tells states of the project apart in which tests or findings differ.
func resultsVersion(m *model) int {
	v := len(m.snap.Units)
	for _, u := range m.snap.Units {
		v += u.Report.Version + 1_000_000*u.Report.Run
	}
	return v
}
