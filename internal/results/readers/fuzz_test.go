package readers

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/txtar"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/plan"
	"omnivigil/internal/results"
	"omnivigil/internal/results/record"
	"omnivigil/internal/results/source"
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

// FuzzReader feeds bytes to all readers at once, twice, with other digits. Their results must be bounded and fit into a
// record, and must be the same whether lines without a meaning are skipped or not.
func FuzzReader(f *testing.F) {
	seeds(f, "output")
	f.Add([]byte("Exception: 0\n at a.c:1\n0Exception\n at a.c:2\n/a.c:1\nError [A]: 0\n at 00\n ok 0 0\nnot ok \nok"))
	f.Add([]byte("a.c:3:5: error: tide [-Wtide]\n  b.py:2:1 - error: low\n    more (reportTide)\n" +
		"Error: ebb\n  d.scss 1:2  root\nIn e.sh line 3:\n^-- SC1 (info): tide\ne.sh: line 4: low\n" +
		"==1==ERROR: AddressSanitizer: heap on address 0x1\n    #0 0x1 in main a.c:3\nCMake Error at Makefile:1 (a):\n  b\n"))
	f.Add(
		[]byte(
			"not ok 1 - a\n  ---\n  a: [\n  ...\n{\"Action\":\"fail\",\"Package\":\"a\"}\n=== RUN   TestA\n" +
				"test a ... FAILED\n",
		),
	)
	dir := f.TempDir()
	for _, name := range []string{"a.c", "a4.c", "b.py", "c.ts", "d.scss", "e.sh", "f.go", "Makefile"} {
		require.NoError(f, os.WriteFile(filepath.Join(dir, name), nil, 0o600))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		data = slices.Concat(data, []byte("\n"), bytes.ReplaceAll(data, []byte("3"), []byte("4")))
		read := func(skip bool) string {
			r := record.New()
			r.Begin(record.Run{Number: 1, At: midday})
			reader := New(Options{Dir: dir, Root: dir, Results: plan.Results{Form: plan.ResultsAuto}}, r)
			if skip {
				reader = New(Options{Dir: dir, Root: dir}, r)
			}
			for line := range strings.Lines(string(data)) {
				if skip && reader.Skip([]byte(line)) {
					continue
				}
				reader.Read(strings.TrimRight(line, "\r\n"))
			}
			reader.End(true)
			r.End(midday, true, true)
			for _, c := range r.Cases() {
				if len(c.Output) > results.MaxOutput {
					t.Fatalf("%d lines of output are kept", len(c.Output))
				}
			}
			if skip {
				return fmt.Sprint(len(r.Findings()))
			}
			return everything(r)
		}
		require.Equal(t, read(false), read(false), "the same output has to tell the same")
		all := record.New()
		all.Begin(record.Run{Number: 1, At: midday})
		reader := New(Options{Dir: dir, Root: dir}, all)
		for line := range strings.Lines(string(data)) {
			reader.Read(strings.TrimRight(line, "\r\n"))
		}
		reader.End(true)
		all.End(midday, true, true)
		require.Equal(t, fmt.Sprint(len(all.Findings())), read(true), "a line was skipped that mattered")
	})
}

// junitOf reads JUnit XML and requires that it takes no more memory than it should.
func junitOf(data []byte, f *source.Files, sink results.Sink) error {
	return readJUnit(bytes.NewReader(data), f, func(text string) string { return text }, sink)
}

// FuzzReports feeds bytes to the readers of report files and of kept results.
func FuzzReports(f *testing.F) {
	seeds(f, "report.xml")
	f.Add([]byte(`{"version":"2.1.0","runs":[{"tool":{"driver":{"name":"a",
		"rules":[{"id":"r","defaultConfiguration":{"level":"error"}}]}},
		"results":[{"ruleId":"r","message":{"text":"m"},"locations":[{"physicalLocation":
			{"artifactLocation":{"uri":"a.go"},"region":{"startLine":3}}}]}]}]}`))
	f.Add([]byte(`{"format":1,"cases":[{"suite":"a","name":"b","past":[{"status":"failed","took":3}]}],
		"findings":[{"Severity":2,"Message":"m"}]}`))
	dir := f.TempDir()
	f.Fuzz(func(_ *testing.T, data []byte) {
		for _, read := range []func([]byte, *source.Files, results.Sink) error{junitOf, readSARIF} {
			r := record.New()
			r.Begin(record.Run{Number: 1, At: midday})
			_ = read(data, source.New(dir, dir), r) // most bytes are no report
			r.End(midday, true, true)
			everything(r)
		}
		if r, err := record.Unmarshal(data); err == nil {
			r.Begin(record.Run{Number: 1, At: midday})
			r.Ended(results.Case{Suite: "a", Name: "b", Status: results.Failed})
			r.End(midday, true, false)
			everything(r)
		}
	})
}

var midday = time.Date(2030, 5, 4, 12, 0, 0, 0, time.UTC)

// everything returns all that a record knows.
func everything(r *record.Record) string {
	var b strings.Builder
	for _, c := range r.Cases() {
		fmt.Fprintf(&b, "%+v %s %d %v %t %t\n", c.Case, c.Change, c.Run, c.Past, c.Flaky, c.Slow)
	}
	for _, f := range r.Findings() {
		fmt.Fprintf(&b, "%+v %s %d %s\n", f.Finding, f.Change, f.Run, f.By)
	}
	return fmt.Sprintf("%s%+v", &b, r.Sum())
}
