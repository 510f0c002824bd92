package readers

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/plan"
	"omnivigil/internal/results/record"
	"omnivigil/internal/results/source"
)

func readReport(t *testing.T, in io.Reader) (*record.Record, error) {
	r := record.New()
	r.Begin(record.Run{Number: 1, At: midday})
	dir := t.TempDir()
	err := readJUnit(
		in,
		source.New(dir, dir),
		func(text string) string { return strings.ReplaceAll(text, "hunter2", "***") },
		r,
	)
	r.End(midday, true, true)
	return r, err
}

func TestJUnit(t *testing.T) {
	for _, test := range []struct {
		name, xml          string
		cases, failed, ran int
		err                string
	}{
		{"a case directly below testsuites", `<testsuites name="s"><testcase name="a"><failure ` +
			`message="low"/></testcase></testsuites>`, 1, 1, 1, ""},
		{"suites in suites", `<testsuites><testsuite name="s"><testsuite name="t"><testcase ` +
			`name="a"/></testsuite><testcase name="b"><skipped/></testcase></testsuite></testsuites>`, 2, 0, 2, ""},
		{"an error counts", `<testsuite name="s"><testcase name="a"><error>boom</error></testcase></testsuite>`, 1, 1,
			1, ""},
		{"another encoding", "<?xml version=\"1.0\" encoding=\"ISO-8859-1\"?><testsuite name=\"s\"><testcase " +
			"name=\"\xe4\"/></testsuite>", 1, 0, 1, ""},
		{"an empty report", `<testsuites/>`, 0, 0, 0, ""},
		{"no report", `<html/>`, 0, 0, 0, "no <testsuite>"},
		{"half a report", `<testsuite name="s"><testcase name="a"/><testcase name="b">`, 1, 0, 1,
			"ends within <testcase>"},
		{"no XML", `PASS`, 0, 0, 0, "no <testsuite>"},
		{"nested without an end", strings.Repeat("<testsuite>", 100000), 0, 0, 0, "nested deeper than 100"},
	} {
		t.Run(test.name, func(t *testing.T) {
			r, err := readReport(t, strings.NewReader(test.xml))
			if test.err == "" {
				require.NoError(t, err)
			} else {
				require.ErrorContains(t, err, test.err)
			}
			sum := r.Sum()
			assert.Equal(t, []int{test.cases, test.failed, test.ran}, []int{sum.Cases, sum.Failed, sum.Ran})
		})
	}
}

func TestJUnitHidesSecrets(t *testing.T) {
	r, err := readReport(
		t,
		strings.NewReader(
			`<testsuite name="s"><testcase name="a"><failure message="no `+
				`hunter2">hunter2</failure><system-out>hunter2</system-out></testcase></testsuite>`,
		),
	)
	require.NoError(t, err)
	assert.NotContains(t, fmt.Sprintf("%+v", r.Cases()[0]), "hunter2")
}

// again reads a text over and over without holding all of it.
func again(text string, times int) io.Reader {
	readers := make([]io.Reader, times)
	for i := range readers {
		readers[i] = strings.NewReader(text)
	}
	return io.MultiReader(readers...)
}

// TestJUnitIsAStream reads a report of 12 MB, and one with the deepest allowed nesting, in little more memory than
// its results need.
func TestJUnitIsAStream(t *testing.T) {
	long := strings.Repeat("x", 200)
	one := fmt.Sprintf(`<testcase name="a" classname="c"><system-out>%s</system-out></testcase>`, long)
	deep := strings.Repeat(`<testsuite name="s">`, deepestJUnit-2)
	for name, in := range map[string]io.Reader{
		"flat": io.MultiReader(strings.NewReader("<testsuite>"), again(one, 12<<20/len(one)),
			strings.NewReader("</testsuite>")),
		"deep": io.MultiReader(strings.NewReader(deep), again(one, 20_000),
			strings.NewReader(strings.Repeat("</testsuite>", deepestJUnit-2))),
	} {
		t.Run(name, func(t *testing.T) {
			var before, after runtime.MemStats
			runtime.GC()
			runtime.ReadMemStats(&before)
			_, err := readReport(t, in)
			require.NoError(t, err)
			runtime.GC()
			runtime.ReadMemStats(&after)
			assert.Less(t, int64(after.HeapSys)-int64(before.HeapSys), int64(10<<20), "bytes taken from the system")
		})
	}
}

// TestKnownReports reads the reports that a runner writes without being told to, if its output shows that it ran and
// they are newer than the run.
func TestKnownReports(t *testing.T) {
	dir := t.TempDir()
	write := func(class string, at time.Time) {
		file := filepath.Join(dir, "pier/target/surefire-reports", "TEST-"+class+".xml")
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o700))
		require.NoError(t, os.WriteFile(file, []byte(`<testsuite name="`+class+`"><testcase classname="`+class+
			`" name="isHigh" time="0.01"/></testsuite>`), 0o600))
		require.NoError(t, os.Chtimes(file, at, at))
	}
	write("ferries.Before", midday.Add(-time.Hour))
	write("ferries.Tides", midday.Add(time.Second))
	for output, want := range map[string]int{
		"[INFO] Tests run: 1, Failures: 0, Errors: 0, Skipped: 0, Time elapsed: 0.1 s -- in ferries.Tides": 1,
		"Tests run: 1, Failures: 0, Errors: 0, Skipped: 0, Time elapsed: 0.1 sec - in ferries.Tides":       1,
		"Tests run: 1": 0,
	} {
		r := record.New()
		r.Begin(record.Run{Number: 1, At: midday})
		o := Options{Dir: dir, Root: dir, Results: plan.Results{Form: plan.ResultsAuto}}
		reader := New(o, r)
		reader.Read(output)
		reader.End(true)
		kept, err := ReadCases(o, midday, reader, r)
		require.NoError(t, err)
		assert.Empty(t, kept)
		assert.Equal(t, want, r.Sum().Passed, output)
	}
}
