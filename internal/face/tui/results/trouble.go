package results

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"omnivigil/internal/api"
	"omnivigil/internal/face/export"
	"omnivigil/internal/face/tui/view"
	"omnivigil/internal/text/format"
)

// maxTroubles limits the locations.
const maxTroubles = 2000

// seekTrouble goes to the next location of a failed test or a finding, or by -1 to the previous one.
func seekTrouble(m *view.Model, by int) {
	m.Later(func(ctx context.Context) view.Then {
		cases, err := m.Project.Cases(ctx, api.ResultQuery{Only: "failing", Count: maxTroubles})
		if err != nil {
			return m.Report(err)
		}
		found, err := m.Project.Findings(ctx, api.ResultQuery{Count: maxTroubles})
		if err != nil {
			return m.Report(err)
		}
		return func() { goToTrouble(m, troubles(cases.Cases, found.Findings), by) }
	})
}

// troubles are the locations of failed tests, then of errors, then of warnings.
func troubles(cases []api.Case, found []api.Finding) []view.Trouble {
	var all []view.Trouble
	for _, c := range cases {
		if c.File != "" {
			all = append(all, view.Trouble{Location: c.Location, Unit: c.Unit, Text: c.Title() + ": " + c.Message})
		}
	}
	for _, severity := range []api.Severity{api.SeverityError, api.SeverityWarning} {
		for _, f := range found {
			if f.File != "" && f.Severity == severity && f.Change != api.GoneFinding {
				all = append(all, view.Trouble{Location: f.Location, Unit: f.Unit, Text: f.Message})
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

// goToTrouble makes another location the current one: by 1 the next, by -1 the previous one, by 0 the same or else the
// first, which is opened in the editor.
func goToTrouble(m *view.Model, all []view.Trouble, by int) {
	if len(all) == 0 {
		m.Trouble, m.Said = nil, "no failed test or finding has a location in a file"
		return
	}
	at := -1
	if m.Trouble != nil {
		at = slices.Index(all, *m.Trouble)
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
	m.Trouble, m.Selected = &t, t.Unit
	m.Said = fmt.Sprintf("%d of %d  %s%s", at+1, len(all), t.From(m.Snap.Project.Root).Text(), firstOf(t.Text))
	if by == 0 {
		m.OpenLocation(t.Location)
	}
}

// editTrouble opens the current location in the editor, or else the first one.
func editTrouble(m *view.Model) {
	if m.Trouble != nil {
		m.OpenLocation(m.Trouble.Location)
		return
	}
	seekTrouble(m, 0)
}

func anyTests(m *view.Model) bool {
	return slices.ContainsFunc(m.Snap.Units, func(u *api.Unit) bool { return u.Report.Cases > 0 || u.Kind == "suite" })
}

func anyFindings(m *view.Model) bool {
	return slices.ContainsFunc(
		m.Snap.Units,
		func(u *api.Unit) bool { return u.Report.Errors+u.Report.Warnings+u.Report.Gone > 0 },
	)
}

func anyTrouble(m *view.Model) bool {
	return slices.ContainsFunc(
		m.Snap.Units,
		func(u *api.Unit) bool { return u.Report.Failed+u.Report.Errors+u.Report.Warnings > 0 },
	)
}

// resultsVersion changes whenever the tests or findings of the project have changed.
func resultsVersion(m *view.Model) int {
	v := len(m.Snap.Units)
	for _, u := range m.Snap.Units {
		v += u.Report.Version + 1_000_000*u.Report.Run
	}
	return v
}

// writeResults asks for a file and writes tests and findings to it, in the format of its extension.
func writeResults(m *view.Model) {
	const formats = ".xml (JUnit), .tap, .sarif or .jsonl"
	name := "results-" + m.Now.Format("150405") + ".xml"
	m.AskFile(m.Top(), "write tests and findings to  ", formats, name, func(file string) {
		m.Later(func(ctx context.Context) view.Then {
			r, err := export.ResultsOf(ctx, m.Project, nil)
			if err == nil {
				err = export.ResultsFile(r, export.ResultsFormatOf(file), file)
			}
			return func() { m.Saved(err, format.Count(len(r.Cases)+len(r.Findings), "result")+" written to "+file) }
		})
	})
}
