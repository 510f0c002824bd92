package export

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/owenrumney/go-sarif/v3/pkg/report/v210/sarif"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/api"
	"omnivigil/internal/plan"
	"omnivigil/internal/results/readers"
	"omnivigil/internal/results/record"
	"omnivigil/internal/text/location"
)

// some returns results of every kind, with text that must be escaped.
func some() Results {
	at := func(file string, line, column int) location.Location {
		return location.Location{File: file, Line: line, Column: column}
	}
	return Results{
		Project: "Saltmarsh <Ferries>", Root: "/ferries", At: time.Date(2030, 5, 4, 12, 0, 0, 0, time.UTC),
		Cases: []api.Case{
			{
				Unit:     "harbour",
				Suite:    "ferries/berths",
				Name:     "TestLow/a # b \\ c",
				Status:   api.CaseFailed,
				Took:     api.Seconds(1500 * time.Millisecond),
				Message:  "low\nwater",
				Want:     "3",
				Got:      "4",
				Location: at("/ferries/berths/berths_test.go", 9, 0),
				Output:   []string{"<tide> & \x1b[31mred\x00", "]]>"},
			},
			{Unit: "harbour", Suite: "ferries/berths", Name: "TestHigh", Status: api.CasePassed},
			{Unit: "harbour", Suite: "ferries/fares", Status: api.CaseFailed, Message: "build failed"},
			{Unit: "more", Name: "later", Status: api.CaseSkipped, Message: "no water"},
		},
		Findings: []api.Finding{
			{
				Unit:     "lint",
				Severity: api.SeverityError,
				Rule:     "undefined",
				Message:  `tide "x" is not`,
				Location: at("/ferries/a b.go", 8, 5),
				Notes:    []string{"declared here"},
			},
			{
				Unit:     "lint",
				Severity: api.SeverityWarning,
				Message:  "spare",
				Location: at("/usr/include/stdio.h", 3, 0),
			},
			{Unit: "lint", Severity: api.SeverityNote, Message: "no file"},
			{
				Unit:     "types",
				Severity: api.SeverityError,
				Rule:     "TS2304",
				Message:  "gone",
				Change:   api.GoneFinding,
				Location: at("/ferries/b.ts", 1, 1),
			},
		},
	}
}

func written(t *testing.T, r Results, format string) []byte {
	t.Helper()
	var out bytes.Buffer
	require.NoError(t, WriteResults(r, format, &out))
	return out.Bytes()
}

// told parses output as results of a unit.
func told(t *testing.T, o readers.Options, files map[string][]byte, output []byte) *record.Record {
	t.Helper()
	o.Dir = t.TempDir()
	o.Root = o.Dir
	for name, data := range files {
		require.NoError(t, os.WriteFile(filepath.Join(o.Dir, name), data, 0o600))
	}
	r := record.New()
	r.Begin(record.Run{Number: 1})
	reader := readers.New(o, r)
	for line := range strings.Lines(string(output)) {
		reader.Read(strings.TrimSuffix(line, "\n"))
	}
	reader.End(true)
	_, err := readers.ReadCases(o, time.Time{}, reader, r)
	require.NoError(t, err)
	require.NoError(t, readers.ReadFindings(o, time.Time{}, r))
	r.End(time.Now(), true, false)
	return r
}

// TestJUnit validates the export against the rules of two schemas, if xmllint is installed, and reads it back.
func TestJUnit(t *testing.T) {
	data := written(t, some(), JUnit)
	file := filepath.Join(t.TempDir(), "report.xml")
	require.NoError(t, os.WriteFile(file, data, 0o600))
	for _, schema := range []string{"testdata/junit-ant.xsd", "testdata/junit-jenkins.xsd"} {
		t.Run(schema, func(t *testing.T) {
			if _, err := exec.LookPath("xmllint"); err != nil {
				t.Skip("xmllint is not installed")
			}
			out, err := exec.Command("xmllint", "--noout", "--schema", schema, file).CombinedOutput()
			require.NoError(t, err, "%s", out)
		})
	}
	r := told(
		t,
		readers.Options{Results: plan.Results{Form: plan.ResultsJUnit, JUnit: "*.xml"}},
		map[string][]byte{"report.xml": data},
		nil,
	)
	sum := r.Sum()
	assert.Equal(t, []int{4, 2, 1, 1}, []int{sum.Cases, sum.Failed, sum.Passed, sum.Skipped})
	c, ok := r.Case(api.CaseName{Suite: "ferries/berths", Name: `TestLow/a # b \ c`})
	require.True(t, ok)
	assert.Equal(t, "low", c.Message)
	assert.Equal(t, 1500*time.Millisecond, c.Took)
}

// TestSARIF validates the export against the published schema and reads it back.
func TestSARIF(t *testing.T) {
	data := written(t, some(), SARIF)
	for _, text := range [][]byte{data, written(t, Results{}, SARIF)} {
		report, err := sarif.FromBytes(text)
		require.NoError(t, err)
		for _, run := range report.Runs { // the library does not fill in the schema's defaults
			run.Language, run.NewlineSequences, run.Tool.Driver.Language = "en-US", []string{"\n"}, "en-US"
		}
		require.NoError(t, report.Validate())
	}
	r := told(t, readers.Options{Findings: plan.Findings{SARIF: "*.sarif"}}, map[string][]byte{"a.sarif": data}, nil)
	var got []string
	for _, f := range r.Findings() {
		got = append(got, fmt.Sprintf("%s %s%s", f.Severity, f.Text(), f.Rule))
	}
	assert.Equal(
		t,
		[]string{
			"note no filenote",
			"warning /usr/include/stdio.h:3: sparewarning",
			`error a b.go:8:5: tide "x" is notundefined`,
		},
		got,
	)
}

// TestTAP reads the export back as the results of a suite.
func TestTAP(t *testing.T) {
	r := told(t, readers.Options{Results: plan.Results{Form: plan.ResultsTAP}}, nil, written(t, some(), TAP))
	sum := r.Sum()
	assert.Equal(t, []int{4, 2, 1, 1}, []int{sum.Cases, sum.Failed, sum.Passed, sum.Skipped})
	c, ok := r.Case(api.CaseName{Name: `harbour ferries/berths TestLow/a # b \ c`})
	require.True(t, ok)
	assert.Equal(t, []string{"low\nwater", "3", "4"}, []string{c.Message, c.Want, c.Got})
}

// TestJSONLines reads the export back.
func TestJSONLines(t *testing.T) {
	var back Results
	for text := range strings.Lines(string(written(t, some(), JSONLines))) {
		var l line
		require.NoError(t, json.Unmarshal([]byte(text), &l))
		if l.Case != nil {
			back.Cases = append(back.Cases, *l.Case)
		} else {
			back.Findings = append(back.Findings, *l.Finding)
		}
	}
	assert.Equal(t, some().Cases, back.Cases)
	assert.Equal(t, some().Findings[:3], back.Findings, "without the one that is gone")
}

func TestResultsFormat(t *testing.T) {
	for file, want := range map[string]string{"a.xml": JUnit, "a.SARIF": SARIF, "a.tap": TAP, "a.jsonl": JSONLines,
		"a.txt": ""} {
		assert.Equal(t, want, ResultsFormatOf(file))
	}
	assert.ErrorContains(t, WriteResults(Results{}, "", &bytes.Buffer{}), "must be")
	file := filepath.Join(t.TempDir(), "a.xml")
	require.NoError(t, os.WriteFile(file, []byte("before"), 0o600))
	require.Error(t, ResultsFile(Results{}, "", file))
	left, _ := os.ReadFile(file)
	assert.Equal(t, "before", string(left), "what is there stays while it is not known what to write")
}
