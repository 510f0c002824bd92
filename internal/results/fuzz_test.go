package results

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/rogpeppe/go-internal/txtar"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/plan"
)

// seeds are the outputs, or the reports, of the golden files.
func seeds(f *testing.F, part string) {
	pages, err := filepath.Glob("testdata/golden/*.txtar")
	require.NoError(f, err)
	for _, page := range pages {
		archive, err := txtar.ParseFile(page)
		require.NoError(f, err)
		for _, file := range archive.Files {
			if file.Name == part {
				f.Add(file.Data)
			}
		}
	}
}

// FuzzReader gives bytes to all readers at once. What they tell has to be bounded and fit into a
// record, and the same lines have to tell the same, whether those are skipped that do not matter.
func FuzzReader(f *testing.F) {
	seeds(f, "output")
	f.Add(
		[]byte(
			"not ok 1 - a\n  ---\n  a: [\n  ...\n{\"Action\":\"fail\",\"Package\":\"a\"}\n=== RUN   TestA\ntest a ... FAILED\n",
		),
	)
	dir := f.TempDir()
	f.Fuzz(func(t *testing.T, data []byte) {
		read := func(skip bool) string {
			r := NewRecord()
			r.Begin(Run{Number: 1, At: noon})
			reader := NewReader(Options{Dir: dir, Root: dir, Results: plan.Results{Form: plan.ResultsAuto}}, r)
			if skip {
				reader = NewReader(Options{Dir: dir, Root: dir}, r)
			}
			for line := range strings.Lines(string(data)) {
				if skip && !reader.MayMatter([]byte(line)) {
					reader.Skip([]byte(line))
					continue
				}
				reader.Read(strings.TrimRight(line, "\r\n"))
			}
			reader.End(true)
			r.End(noon, true, true)
			for _, c := range r.Cases() {
				if len(c.Output) > maxOutput {
					t.Fatalf("%d lines of output are kept", len(c.Output))
				}
			}
			if skip {
				return fmt.Sprint(len(r.Findings()))
			}
			return tellRecord(r)
		}
		require.Equal(t, read(false), read(false), "the same output has to tell the same")
		all := NewRecord()
		all.Begin(Run{Number: 1, At: noon})
		reader := NewReader(Options{Dir: dir, Root: dir}, all)
		for line := range strings.Lines(string(data)) {
			reader.Read(strings.TrimRight(line, "\r\n"))
		}
		reader.End(true)
		all.End(noon, true, true)
		require.Equal(t, fmt.Sprint(len(all.Findings())), read(true), "a line was skipped that mattered")
	})
}

// junitOf reads JUnit XML, and requires that it takes no more memory than it should.
func junitOf(data []byte, f *sourceFiles, sink Sink) error {
	return readJUnit(bytes.NewReader(data), f, func(text string) string { return text }, sink)
}

// FuzzReports gives bytes to the readers of report files, and to that of what is kept.
func FuzzReports(f *testing.F) {
	seeds(f, "report.xml")
	f.Add(
		[]byte(
			`{"version":"2.1.0","runs":[{"tool":{"driver":{"name":"a","rules":[{"id":"r","defaultConfiguration":{"level":"error"}}]}},"results":[{"ruleId":"r","message":{"text":"m"},"locations":[{"physicalLocation":{"artifactLocation":{"uri":"a.go"},"region":{"startLine":3}}}]}]}]}`,
		),
	)
	f.Add(
		[]byte(
			`{"format":1,"cases":[{"suite":"a","name":"b","past":[{"status":"failed","took":3}]}],"findings":[{"Severity":2,"Message":"m"}]}`,
		),
	)
	dir := f.TempDir()
	f.Fuzz(func(_ *testing.T, data []byte) {
		for _, read := range []func([]byte, *sourceFiles, Sink) error{junitOf, readSARIF} {
			r := NewRecord()
			r.Begin(Run{Number: 1, At: noon})
			_ = read(data, newFiles(dir, dir), r) // most bytes are no report
			r.End(noon, true, true)
			tellRecord(r)
		}
		if r, err := Unmarshal(data); err == nil {
			r.Begin(Run{Number: 1, At: noon})
			r.Ended(Case{Suite: "a", Name: "b", Status: Failed})
			r.End(noon, true, false)
			tellRecord(r)
		}
	})
}

// FuzzNarrow requires that a case's name stays one word, and is found by the expression that it
// is quoted in.
func FuzzNarrow(f *testing.F) {
	f.Add("TestBerths/low_tide", "TestA|B")
	f.Add("$(rm -rf .); 'x' \"y\"", "a b")
	f.Fuzz(func(t *testing.T, a, b string) {
		if a == "" || b == "" {
			return
		}
		u := &plan.Unit{Name: "harbour", Run: plan.Command{Shell: "make test"}, Narrow: &plan.Narrow{Add: "--only {}"}}
		words, err := Words(u, []Chosen{{Name: a}, {Name: b}})
		require.NoError(t, err)
		for _, name := range []string{a, b} {
			require.Contains(t, words, name)
		}
	})
}

func TestWords(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "tests"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "tests", "test_berths.py"), nil, 0o600))
	for _, test := range []struct {
		command string
		narrow  *plan.Narrow
		chosen  []Chosen
		want    []string
	}{
		{"go test ./...", nil, []Chosen{{"ferries/berths", "TestTide"}}, []string{"-run", "^(TestTide)$"}},
		{"go test ./...", nil, []Chosen{{"a", "TestB/low_(x)"}, {"a", "TestC"}, {"b", "TestC"}}, []string{"-run", `^(TestB)$/^(low_\(x\))$|^(TestC)$`}},
		{"node --test", nil, []Chosen{{"", "berths/low tide"}}, []string{"--test-name-pattern", "^(low tide)$"}},
		{"python3 -m pytest", nil, []Chosen{{"tests.test_berths.TestTide", "test_low[1]"}}, []string{"tests/test_berths.py::TestTide::test_low[1]"}},
		{"cargo test", nil, []Chosen{{"src/lib.rs", "tests::low"}}, []string{"--", "--exact", "tests::low"}},
		{"prove t", nil, []Chosen{{"t/a.t", "low"}, {"t/a.t", "high"}}, []string{"t/a.t"}},
		{"make test", &plan.Narrow{Add: "ONLY={}", Join: ","}, []Chosen{{"", "a"}, {"", "b"}}, []string{"ONLY=a,b"}},
		{"go test ./...", &plan.Narrow{First: "-failfast"}, []Chosen{{"", "TestA"}}, []string{"-run", "^(TestA)$"}},
	} {
		u := &plan.Unit{Name: "harbour", Dir: dir, Run: plan.Command{Shell: test.command}, Narrow: test.narrow}
		words, err := Words(u, test.chosen)
		require.NoError(t, err)
		require.Equal(t, test.want, words)
	}
	_, err := Words(&plan.Unit{Name: "harbour", Run: plan.Command{Shell: "make test"}}, []Chosen{{"", "a"}})
	require.ErrorContains(t, err, "for harbour: how its command takes the names")
	u := &plan.Unit{Narrow: &plan.Narrow{First: "--first {}"}}
	require.Equal(t, []string{"--first", "a", "b"}, First(u, []Chosen{{"", "a"}, {"", "b"}}))
	require.Nil(t, First(u, nil))
}
