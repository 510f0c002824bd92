package lsp

import (
	"cmp"
	"context"
	"fmt"
	"path/filepath"
	"strings"

	"go.lsp.dev/protocol"

	"omnivigil/internal/api"
	"omnivigil/internal/text/location"
)

// mark is a finding or a failing test, at its location.
type mark struct {
	file     string
	at       protocol.Range
	unit     string
	run      int
	old      bool          // it is about code from before the last save
	test     *api.CaseName // nil: it is a finding
	narrowed bool          // the unit runs only some of its tests
	severity protocol.DiagnosticSeverity
	rule     string
	text     string
}

// maxMarks limits the findings and tests of a project that an editor gets.
const maxMarks = 2000

// marksOf are the findings and failing tests of a project.
func marksOf(ctx context.Context, p api.Project, snap *api.Snapshot) (marks []mark, err error) {
	lines := sources{}
	add := func(l location.Location, m mark) {
		u := snap.Unit(m.unit)
		if !filepath.IsAbs(l.File) || l.Line == 0 || u == nil || len(marks) >= maxMarks {
			return
		}
		m.file, m.at = l.File, lines.rangeOf(l)
		m.old, m.narrowed = isOld(u, m.run), u.Narrowed != ""
		marks = append(marks, m)
	}
	found, err := p.Findings(ctx, api.ResultQuery{Count: maxMarks})
	if err != nil {
		return nil, err
	}
	for _, f := range found.Findings {
		if f.Change == api.GoneFinding || f.Trace {
			continue
		}
		text := strings.Join(append([]string{f.Message}, f.Notes...), "\n")
		add(f.Location, mark{unit: f.Unit, run: f.Run, severity: severities[f.Severity], rule: f.Rule, text: text})
	}
	failing, err := p.Cases(ctx, api.ResultQuery{Only: "failing", Count: maxMarks})
	if err != nil {
		return nil, err
	}
	for _, c := range failing.Cases {
		text := c.Title() + " failed"
		if c.Message != "" {
			text += ": " + c.Message
		}
		add(c.Location, mark{
			unit: c.Unit, run: c.Run, severity: protocol.DiagnosticSeverityError, text: text,
			test: &api.CaseName{Suite: c.Suite, Name: c.Name},
		})
	}
	return marks, nil
}

// isOld reports whether what a run has found is about code from before the last save.
func isOld(u *api.Unit, run int) bool {
	switch u.Freshness {
	case api.Stale:
		return true
	case api.Updating:
		return run != u.Run.Number || u.Queued || !u.Run.EndedAt.IsZero()
	}
	return u.Narrowed != "" && run != u.Run.Number // the others did not run
}

var severities = map[api.Severity]protocol.DiagnosticSeverity{
	api.SeverityError: protocol.DiagnosticSeverityError, api.SeverityWarning: protocol.DiagnosticSeverityWarning,
	api.SeverityNote: protocol.DiagnosticSeverityInformation,
}

// diagnostic is the mark for the editor. It states its unit and run, whether it is about older code, and whether the
// document differs from the file that it is about.
func (m mark) diagnostic(edited bool) protocol.Diagnostic {
	about := fmt.Sprintf("%s run %d, of the code just saved", m.unit, m.run)
	if m.old {
		about = fmt.Sprintf("%s run %d, of older code", m.unit, m.run)
	}
	if edited {
		about += "; the line is that of the saved file"
	}
	d := protocol.Diagnostic{
		Range: m.at, Severity: m.severity, Source: "omnivigil", Message: plain(m.text) + " (" + about + ")",
	}
	if m.rule != "" {
		d.Code = m.rule
	}
	return d
}

func compareDiagnostics(a, b protocol.Diagnostic) int {
	return cmp.Or(cmp.Compare(a.Range.Start.Line, b.Range.Start.Line),
		cmp.Compare(a.Range.Start.Character, b.Range.Start.Character), cmp.Compare(a.Message, b.Message))
}
