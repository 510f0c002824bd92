package tui

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/api"
	"omnivigil/internal/api/report"
	"omnivigil/internal/engine"
	"omnivigil/internal/text/location"
)

// withResults is a project whose task u3 has reported tests and findings.
func withResults(t testing.TB, width, height, cases, found int) (*root, *played) {
	t.Helper()
	m, p := play(t, 5, width, height)
	dir := t.TempDir()
	file := filepath.Join(dir, "berths.go")
	require.NoError(t, os.WriteFile(file, []byte("package berths\n\nfunc depth() int {\n\treturn tide\n}\n"), 0o600))
	past := func(of string) (all []api.PastResult) {
		for _, c := range of {
			all = append(
				all,
				api.PastResult{
					Status: map[rune]api.CaseStatus{'+': api.CasePassed, '-': api.CaseFailed, '.': api.CaseSkipped}[c],
					Took:   api.Seconds(time.Millisecond),
				},
			)
		}
		return all
	}
	twice := past("+++")
	twice[1].Both = true
	p.cases = []api.Case{
		{
			Unit:     "u3",
			Suite:    "ferries/harbour/berths",
			Name:     "TestBerths/low_tide",
			Status:   api.CaseFailed,
			Change:   api.NewlyFailing,
			Took:     api.Seconds(1200 * time.Millisecond),
			Message:  "berths = 4, want 3",
			Want:     "3 berths",
			Got:      "4 berths",
			Location: location.Location{File: file, Line: 4, Column: 9},
			Past:     past("++++-"),
		},
		{
			Unit:    "u3",
			Suite:   "ferries/harbour/fares",
			Status:  api.CaseFailed,
			Change:  api.StillFailing,
			Message: "build failed",
			Past:    past("--"),
		},
		{
			Unit:   "u3",
			Suite:  "ferries/harbour/berths",
			Name:   "TestBuoy",
			Status: api.CasePassed,
			Flaky:  true,
			Took:   api.Seconds(80 * time.Millisecond),
			Past:   past("+-+-+-+-+-+-+-+"),
		},
		{
			Unit:   "u3",
			Suite:  "ferries/harbour/berths",
			Name:   "TestEbb",
			Status: api.CasePassed,
			Change: api.NewlyPassing,
			Past:   append(past("--+"), twice...),
		},
		{
			Unit:    "u3",
			Suite:   "ferries/harbour/berths",
			Name:    "TestLater",
			Status:  api.CaseSkipped,
			Message: "no water",
			Past:    past("."),
		},
	}
	for i := len(p.cases); i < cases; i++ {
		p.cases = append(
			p.cases,
			api.Case{
				Unit:   "u3",
				Suite:  "ferries/harbour/many",
				Name:   fmt.Sprintf("Test%05d", i),
				Status: api.CasePassed,
				Past:   past("++++++"),
			},
		)
	}
	p.findings = []api.Finding{
		{
			Unit:     "u3",
			Run:      2,
			Severity: api.SeverityError,
			Message:  "undefined: tide",
			Change:   api.NewFinding,
			Location: location.Location{File: file, Line: 4, Column: 9},
			Notes:    []string{"did you mean tides?"},
		},
		{
			Unit:     "u3",
			Run:      2,
			Severity: api.SeverityWarning,
			Rule:     "spare",
			Message:  "'depth' is not used",
			Location: location.Location{File: file, Line: 3, Column: 6},
		},
		{
			Unit:     "u3",
			Run:      2,
			Severity: api.SeverityError,
			Message:  "wrong number of fields",
			Change:   api.GoneFinding,
			Location: location.Location{File: "/ferries/fares.csv", Line: 7},
		},
	}
	for i := len(p.findings); i < found; i++ {
		p.findings = append(
			p.findings,
			api.Finding{
				Unit:     "u3",
				Run:      2,
				Severity: api.SeverityWarning,
				Message:  fmt.Sprint("warning ", i),
				Location: location.Location{File: fmt.Sprintf("/ferries/f%d.go", i/50), Line: i},
			},
		)
	}
	p.Send(engine.Reported{Unit: "u3", Run: p.Engine.Snapshot().Unit("u3").Run.Number,
		Report: engine.Report{Counts: report.Counts{
			Run:      2,
			Version:  1,
			Cases:    len(p.cases),
			Ran:      len(p.cases),
			Passed:   2,
			Failed:   2,
			Skipped:  1,
			New:      1,
			Flaky:    1,
			Errors:   1,
			Warnings: 1,
			Added:    1,
			Gone:     1,
			Names:    []string{"TestBerths/low_tide"},
			First:    "berths.go:4:9: undefined: tide",
		}}})
	p.root = dir
	p.see()
	return m, p
}

// TestResultScreens draws the views of tests and findings and compares them with testdata.
func TestResultScreens(t *testing.T) {
	for _, test := range []struct {
		name          string
		width, height int
		keys          []string
	}{
		{"tests", 158, 46, []string{"T"}},
		{"tests-good", 80, 24, []string{"T", "down", "space"}},
		{"tests-small", 60, 15, []string{"T"}},
		{"findings", 158, 46, []string{"F"}},
		{"findings-good", 80, 24, []string{"F", "down"}},
		{"findings-small", 60, 15, []string{"F"}},
		{"tests-days", 120, 40, []string{"T", "down"}},
		{"tests-help", 100, 50, []string{"T", "?"}},
		{"results-lanes", 120, 24, []string{">", ">"}},
	} {
		t.Run(test.name, func(t *testing.T) {
			m, p := withResults(t, test.width, test.height, 0, 0)
			if test.name == "tests-days" {
				p.history = lately(p.Now)
			}
			m.keyed(test.keys...)
			m.settle(nil)
			rows := m.screen()
			require.Len(t, rows, test.height)
			for i, row := range rows {
				assert.LessOrEqual(t, ansi.StringWidth(row), test.width, "row %d", i)
			}
			compareScreen(t, m, test.name)
		})
	}
}

// TestResultKeys presses the keys of these views and checks their effects.
func TestResultKeys(t *testing.T) {
	m, p := withResults(t, 120, 40, 0, 0)
	m.keyed("T", "r")
	assert.Equal(t, []string{"narrow u3 TestBerths/low_tide"}, p.requests)
	m.keyed("space", "down", "space", "r")
	assert.Contains(t, p.requests[1], "TestBerths/low_tide")
	assert.Contains(t, p.requests[1], "TestBuoy")
	m.keyed("home", "t", "x")
	assert.Equal(
		t,
		[]string{"narrow u3 TestBerths/low_tide TestBuoy TestEbb TestLater", "narrow u3 failing"},
		p.requests[2:],
	)
	m.keyed("e")
	assert.Contains(t, m.plainScreen(), "no editor is set", "the place is there, an editor is not")
	m.keyed("/", "e", "b", "b", "enter")
	assert.Contains(t, m.plainScreen(), `tests with "ebb"`)
	m.keyed("esc")
	assert.True(t, m.IsOpen("overview"))

	m.keyed("F", "f")
	assert.Contains(t, m.plainScreen(), "errors, 1 of")
	m.keyed("o")
	assert.Contains(t, m.plainScreen(), "by unit")
	m.keyed("esc")
	assert.Equal(t, "u0", m.Selected, "the selection in the lanes is as before")
	m.keyed("down", "down", "down", "t")
	for _, k := range "TestBer" {
		m.keyed(string(k))
	}
	assert.Contains(t, m.plainScreen(), "none of 5 known tests matches")
	m.keyed("tab")
	assert.Contains(t, m.plainScreen(), "1 of 5 known tests match")
	for _, k := range " TestTide" {
		m.keyed(string(k))
	}
	m.keyed("tab")
	assert.Contains(t, m.plainScreen(), "tab: no known test begins with that")
	m.keyed("enter")
	assert.Equal(t, "narrow u3 TestBerths/low_tide TestTide", p.requests[4])

	m.keyed(">")
	assert.Contains(t, m.plainScreen(), "1 of 3  berths.go:4:9: TestBerths/low_tide: berths = 4, want 3")
	m.keyed("<")
	assert.Contains(t, m.plainScreen(), "3 of 3  berths.go:3:6: 'depth' is not used")
}

// BenchmarkTests moves through ten thousand tests, and BenchmarkFindings through five thousand findings: one key
// press and the frame that follows.
func BenchmarkTests(b *testing.B) { benchmarkList(b, "T", 10_000, 0) }

func BenchmarkFindings(b *testing.B) { benchmarkList(b, "F", 0, 5_000) }

func benchmarkList(b *testing.B, view string, cases, found int) {
	m, _ := withResults(b, 158, 46, cases, found)
	m.keyed(view)
	moves := []tea.KeyPressMsg{key("down"), key("down"), key("shift+down"), key("up")}
	for i := 0; b.Loop(); i++ {
		m.settle(moves[i%len(moves)])
		m.screen()
	}
}
