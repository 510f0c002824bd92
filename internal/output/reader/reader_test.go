package reader

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"omnivigil/internal/api"
	"omnivigil/internal/output/lens"
	"omnivigil/internal/output/logbook"
	"omnivigil/internal/output/query"
)

// bookOf returns a log with one line per second.
func bookOf(t testing.TB) *logbook.Book {
	b := logbook.Open(t.TempDir(), logbook.Options{})
	t.Cleanup(func() { b.Close() })
	now := time.Date(2030, 5, 4, 12, 0, 0, 0, time.UTC)
	b.SetClock(func() time.Time { now = now.Add(time.Second); return now })
	return b
}

func said(lines []api.Line) []string {
	out := []string{}
	for _, l := range lines {
		if l.Times > 0 {
			l.Text = fmt.Sprintf("%dx %s", l.Times, l.Text)
		}
		out = append(out, l.Text)
	}
	return out
}

// TestLines returns parts of a log by number, by time, from the end, folded and filtered.
func TestLines(t *testing.T) {
	b := bookOf(t)
	for run := 1; run <= 2; run++ {
		for range 3 {
			b.Append(logbook.Entry{Unit: "tides", Run: run, Ripple: run + 4}, "the same")
		}
		b.Append(logbook.Entry{Unit: "berths", Ripple: 9}, "Between \x1b[31mti\x1b[0mdes")
		b.Append(logbook.Entry{Unit: "tides", Run: run, Ripple: run + 4}, "error: no tide", `level=warn msg="low tide"`)
	}
	between, low := "Between \x1b[31mti\x1b[0mdes", `level=warn msg="low tide"`
	at := func(seconds int) time.Time { return time.Date(2030, 5, 4, 12, 0, seconds, 0, time.UTC) }
	log := Log{Source: b, LastSave: func() api.Save { return api.Save{Ripple: 6} }}
	for _, test := range []struct {
		name      string
		q         api.LineQuery
		from, end int64
		lines     []string
	}{
		{"first", api.LineQuery{Count: 2}, 0, 2, []string{"the same", "the same"}},
		{"from", api.LineQuery{From: 3, Count: 2}, 3, 5, []string{between, "error: no tide"}},
		{"from and to", api.LineQuery{From: 3, To: 5}, 3, 5, []string{between, "error: no tide"}},
		{"to, but fewer", api.LineQuery{From: 3, To: 5, Count: 1}, 3, 4, []string{between}},
		{"nothing in between", api.LineQuery{From: 3, To: 5, Filter: "same"}, 3, 5, []string{}},
		{"to before from", api.LineQuery{From: 3, To: 2}, 3, 3, []string{}},
		{"past the end", api.LineQuery{From: 99}, 99, 99, []string{}},
		{"last", api.LineQuery{Last: true, Count: 2}, 10, 12, []string{"error: no tide", low}},
		{"before", api.LineQuery{End: 5, Count: 2}, 3, 5, []string{between, "error: no tide"}},
		{"until", api.LineQuery{Until: at(5), Count: 1}, 3, 4, []string{between}},
		{"since", api.LineQuery{Since: at(5), Count: 1}, 4, 5, []string{"error: no tide"}},
		{"folded", api.LineQuery{Unit: "tides", Last: true, Count: 20, Fold: true}, 0, 12,
			[]string{"3x the same", "error: no tide", low, "3x the same", "error: no tide", low}},
		{"run", api.LineQuery{Unit: "tides", Run: 1, Count: 2}, 4, 12, []string{"error: no tide", low}},
		{"why", api.LineQuery{Unit: "tides", Run: 2, Count: 2, Why: true}, 0, 0,
			[]string{"the same", "error: no tide"}},
		{"two up", api.LineQuery{Last: true, Move: -2, Count: 1}, 9, 10, []string{between}},
		{"one down", api.LineQuery{End: 4, Move: 1, Count: 1, Unit: "tides"}, 4, 5, []string{"error: no tide"}},
		{"farther than there is", api.LineQuery{End: 4, Move: -50, Count: 3}, 0, 0, []string{}},
		{"text, through colors", api.LineQuery{Filter: "tides", Last: true}, 0, 12, []string{between, between}},
		{"case by habit", api.LineQuery{Filter: "between"}, 3, 12, []string{between, between}},
		{"and not", api.LineQuery{Filter: "Tides"}, 0, 12, []string{}},
		{"opposites", api.LineQuery{Filter: "!unit=berths !same !/^error/"}, 5, 12, []string{low, low}},
		{"a ripple", api.LineQuery{Filter: "ripple=last tide"}, 10, 12, []string{"error: no tide", low}},
		{"level", api.LineQuery{Filter: "level=warning"}, 4, 12,
			[]string{"error: no tide", low, "error: no tide", low}},
		{"below a level", api.LineQuery{Filter: "!level=error"}, 5, 12, []string{low, low}},
		{"a run of a filter", api.LineQuery{Filter: "unit=tides run=1", Count: 1}, 0, 1, []string{"the same"}},
	} {
		t.Run(test.name, func(t *testing.T) {
			page, err := log.Lines(t.Context(), test.q)
			require.NoError(t, err)
			assert.Equal(t, test.lines, said(page.Lines))
			if len(test.lines) > 0 && !test.q.Why {
				assert.Equal(t, test.from, page.From)
				assert.Equal(t, test.end, page.End)
			}
		})
	}
	for q, want := range map[api.LineQuery]string{
		{Run: 1}:         "a run is one of a unit: which one?",
		{Filter: "a=b"}:  "there is no a=",
		{Filter: "/a(/"}: "missing closing )",
	} {
		_, err := log.Lines(t.Context(), q)
		assert.ErrorContains(t, err, want)
	}
}

// TestTracesHoldTogether has stack traces of two units with interleaved lines.
func TestTracesHoldTogether(t *testing.T) {
	b := bookOf(t)
	a := strings.Split(
		"up\nError: no tide\n    at berth (/app.js:10:11)\n    at main (/app.js:4:1)\nhealth: fine",
		"\n",
	)
	c := strings.Split("panic: ebb\n\ngoroutine 1 [running]:\nmain.main()\n\t/main.go:8 +0x1d", "\n")
	for i := range a {
		b.Append(logbook.Entry{Unit: "a", Run: 1}, a[i])
		b.Append(logbook.Entry{Unit: "c", Run: 1}, c[i])
	}
	for filter, want := range map[string][]string{
		"app.js:10":   a[1:4],
		"/^Error/":    a[1:4],
		"ebb":         c,
		"goroutine":   c,
		"level=error": {c[0], a[1], c[1], a[2], c[2], a[3], c[3], c[4]},
		"!berth":      {a[0], c[0], c[1], c[2], c[3], a[4], c[4]},
		"!main.main":  {a[0], a[1], a[2], a[3], a[4]},
		"health":      a[4:],
	} {
		for _, q := range []api.LineQuery{{Filter: filter}, {Filter: filter, Last: true}} {
			page, err := Log{Source: b}.Lines(t.Context(), q)
			require.NoError(t, err)
			assert.Equal(t, want, said(page.Lines), filter)
		}
	}
}

// TestTracesFold has the same stack trace three times.
func TestTracesFold(t *testing.T) {
	b := bookOf(t)
	for range 3 {
		b.Append(logbook.Entry{Unit: "a", Run: 1}, "Error: no tide", "    at berth (/app.js:10:11)")
	}
	b.Append(logbook.Entry{Unit: "a", Run: 1}, "Error: no tide", "    at main (/app.js:4:1)")
	page, err := Log{Source: b}.Lines(t.Context(), api.LineQuery{Last: true, Fold: true})
	require.NoError(t, err)
	assert.Equal(
		t,
		[]string{"3x Error: no tide", "    at berth (/app.js:10:11)", "Error: no tide", "    at main (/app.js:4:1)"},
		said(page.Lines),
	)
}

// TestSearchIsGrep compares the results of a search, forward and backward, with what the standard library finds in
// the same lines one by one.
func TestSearchIsGrep(t *testing.T) {
	b := bookOf(t)
	words := []string{
		"tide",
		"Tide",
		"TIDE",
		"ti\x1b[1mde\x1b[0m",
		"berth",
		"kelp",
		"Kelp",
		"\u212aelp",
		"sea",
		"\u017fea",
		"ebb",
		"a.c",
		"12",
		":",
		"ö",
		"Ö",
	}
	r := regexp.MustCompile("\x1b\\[[0-9;]*m")
	var visible []string
	for i := range 3000 {
		var said []string
		for j := range i % 4 {
			said = append(said, words[(i*7+j*5+i/13)%len(words)])
		}
		b.Append(logbook.Entry{Unit: fmt.Sprint("u", i%3)}, strings.Join(said, " "))
		visible = append(visible, r.ReplaceAllString(strings.Join(said, " "), ""))
	}
	log := Log{Source: b}
	patterns := []string{
		"tide",
		"Tide",
		"kelp",
		"sea",
		"ö",
		"Ö",
		":",
		"12",
		"/t.de/",
		"/^tide/",
		"/Tide$/",
		"/kelp|ebb/",
		"/(tide|sea) berth/",
		"/a\\.c/",
		"/\\S+ \\S+/",
		"/sea+ /",
		"none",
		"/e{2}/",
		"/(?i:TIDE)/",
		"/(?i)Kelp/",
		"/(?-i)tide/",
	}
	rapid.Check(t, func(t *rapid.T) {
		pattern := rapid.SampledFrom(patterns).Draw(t, "pattern")
		from := rapid.Int64Range(0, 3000).Draw(t, "from")
		back := rapid.Bool().Draw(t, "back")
		unit := rapid.SampledFrom([]string{"", "u1"}).Draw(t, "unit")
		p := query.ParsePattern(pattern)
		expr := p.Text
		if !p.Regexp {
			expr = regexp.QuoteMeta(expr)
		}
		if strings.ToLower(p.Text) == p.Text || strings.Contains(p.Text, `\S`) {
			expr = "(?i)" + expr
		}
		re := regexp.MustCompile(expr)
		var want []int64
		matches := int64(0)
		for n, text := range visible {
			if (unit != "" && n%3 != 1) || !re.MatchString(text) ||
				(!p.Regexp && strings.ToLower(p.Text) == p.Text && isASCII(p.Text) &&
					!strings.Contains(lower(text), p.Text)) {
				continue
			}
			matches++
			if back == (int64(n) < from) {
				want = append(want, int64(n))
			}
		}
		if back {
			for i, j := 0, len(want)-1; i < j; i, j = i+1, j-1 {
				want[i], want[j] = want[j], want[i]
			}
		}
		want = want[:min(len(want), 7)]
		filter := ""
		if unit != "" {
			filter = "unit=" + unit
		}
		var got []int64
		var last api.Found
		err := log.Search(
			context.Background(),
			api.SearchQuery{Pattern: pattern, Filter: filter, From: from, Back: back, Most: 7, Count: true},
			func(f api.Found) error {
				for _, l := range f.Lines {
					got = append(got, l.Number)
				}
				last = f
				return nil
			},
		)
		require.NoError(t, err)
		require.Equal(t, want, got)
		require.Equal(t, matches, last.Matches)
		require.Equal(
			t,
			api.Found{Matches: matches, Searched: 3000, Total: 3000, Done: true},
			api.Found{Matches: last.Matches, Searched: last.Searched, Total: last.Total, Done: last.Done},
		)
	})
	_, err := log.Lines(t.Context(), api.LineQuery{Filter: "!"})
	require.Error(t, err)
	stop := errors.New("enough")
	assert.Equal(
		t,
		stop,
		log.Search(
			t.Context(),
			api.SearchQuery{Pattern: "tide", Most: 1, Count: true},
			func(api.Found) error { return stop },
		),
	)
}

// lower converts ASCII letters to lower case, as a search for plain text does; it leaves all other letters of Unicode
// unchanged.
func lower(s string) string {
	return strings.Map(func(r rune) rune {
		if 'A' <= r && r <= 'Z' {
			r += 'a' - 'A'
		}
		return r
	}, s)
}

func isASCII(s string) bool { return strings.IndexFunc(s, func(r rune) bool { return r > 127 }) < 0 }

// TestText reads the text in arbitrary pieces and gets it complete.
func TestText(t *testing.T) {
	b := bookOf(t)
	for i := range 5000 {
		b.Append(logbook.Entry{Unit: "tides"}, fmt.Sprintf("line %d", i), "and")
	}
	log := Log{Source: b}
	var whole strings.Builder
	next, err := log.Text(t.Context(), api.TextQuery{}, &whole)
	require.NoError(t, err)
	require.EqualValues(t, 10000, next)
	lines := strings.SplitAfter(whole.String(), "\n")
	require.Len(t, lines, 10001)
	rapid.Check(t, func(t *rapid.T) {
		from := rapid.Int64Range(0, 10100).Draw(t, "from")
		end := rapid.Int64Range(1, 10100).Draw(t, "end")
		var part strings.Builder
		next, err := log.Text(context.Background(), api.TextQuery{From: from, End: end}, &part)
		require.NoError(t, err)
		to := max(min(end, 10000), min(from, 10000))
		require.Equal(t, strings.Join(lines[min(from, 10000):to], ""), part.String())
		if end >= from && from <= 10000 {
			require.Equal(t, to, next)
		}
	})
}

// TestFailures goes to the lines that are known to report a failure: Omnivigil's own lines and marked output. The
// reason of a run is the first of these, and text within JSON is reported without the JSON.
func TestFailures(t *testing.T) {
	b := bookOf(t)
	b.Append(logbook.Entry{Unit: "harbour", Run: 1}, "ok 1 - high", "fatal: no more")
	b.Append(
		logbook.Entry{Unit: "harbour", Run: 1, Tone: logbook.Broken},
		`{"Action":"output","Package":"a","Output":"--- FAIL: TestLow\n"}`,
	)
	b.Append(logbook.Entry{Unit: "harbour", Run: 1, Tone: logbook.Stale}, "a.c:3:5: warning: spare")
	b.Append(logbook.Entry{Unit: "harbour", Run: 1}, "panic: at the end")
	b.Append(logbook.Entry{Unit: "harbour", Run: 1, Stream: logbook.Ends, Tone: logbook.Broken}, "failed")
	log := Log{Source: b}
	b.Flush()
	page, err := log.Lines(t.Context(), api.LineQuery{Filter: "event=failure"})
	require.NoError(t, err)
	assert.Equal(t, []string{"--- FAIL: TestLow", "failed"}, said(page.Lines))
	page, err = log.Lines(t.Context(), api.LineQuery{Unit: "harbour", Run: 1, Why: true, Count: 2})
	require.NoError(t, err)
	assert.Equal(t, []string{"fatal: no more", "--- FAIL: TestLow"}, said(page.Lines))
}

// TestTestEvents reads the output of go test -json as it is printed for people, and as it was written.
func TestTestEvents(t *testing.T) {
	b := bookOf(t)
	written := []string{
		"go test -json ./...",
		`{"Action":"run","Package":"a","Test":"TestLow"}`,
		`{"Action":"output","Package":"a","Test":"TestLow","Output":"=== RUN   TestLow\n"}`,
		`{"Action":"output","Package":"a","Test":"TestLow","Output":"    \u001b[2Jlow\n"}`,
		`{"Action":"output","Package":"a","Test":"TestLow","Output":"    \u001b[2Jlow\n"}`,
		`{"Action":"pass","Package":"a","Test":"TestLow","Elapsed":0}`,
	}
	b.Append(logbook.Entry{Unit: "harbour", Run: 1}, written...)
	b.Append(logbook.Entry{Unit: "asis", Run: 1}, written[1])
	b.Flush()
	log := Log{Source: b, AsWritten: func(unit string) bool { return unit == "asis" }}
	low := `    \x1b[2Jlow`
	for name, test := range map[string]struct {
		q    api.LineQuery
		want []string
	}{
		"forward": {api.LineQuery{}, []string{written[0], "=== RUN   TestLow", low, low, written[1]}},
		"the last, folded": {api.LineQuery{Last: true, Count: 2, Fold: true, Unit: "harbour"},
			[]string{"=== RUN   TestLow", "2x " + low}},
		"filtered": {api.LineQuery{Filter: "TestLow", Unit: "harbour"}, []string{"=== RUN   TestLow"}},
		"raw":      {api.LineQuery{Unit: "harbour", Raw: true}, written},
	} {
		page, err := log.Lines(t.Context(), test.q)
		require.NoError(t, err)
		assert.Equal(t, test.want, said(page.Lines), name)
	}
	for raw, want := range map[bool]string{
		false: strings.Join([]string{written[0], "=== RUN   TestLow", low, low}, "\n"),
		true:  strings.Join(written, "\n"),
	} {
		var text strings.Builder
		next, err := log.Text(t.Context(), api.TextQuery{End: 6, Raw: raw}, &text)
		require.NoError(t, err)
		assert.EqualValues(t, 6, next)
		assert.Equal(t, want+"\n", regexp.MustCompile(`(?m)^.{24}`).ReplaceAllString(text.String(), ""))
		found := int64(0)
		q := api.SearchQuery{Pattern: "TestLow", Filter: "unit=harbour", Count: true, Raw: raw}
		require.NoError(t, log.Search(t.Context(), q, func(f api.Found) error { found = f.Matches; return nil }))
		assert.Equal(t, map[bool]int64{false: 1, true: 5}[raw], found)
	}
}

// TestLens folds lines of one kind, marks those that are new since the newest save, and counts lines over time.
func TestLens(t *testing.T) {
	at := time.Date(2030, 5, 4, 12, 0, 0, 0, time.UTC)
	b := logbook.Open(filepath.Join(t.TempDir(), "log"), logbook.Options{})
	defer b.Close()
	b.SetClock(func() time.Time { return at })
	save := api.Save{}
	log := Log{Source: b, LastSave: func() api.Save { return save }, Census: &lens.Census{}}
	for i := range 20 {
		b.Append(logbook.Entry{Unit: "tides"}, fmt.Sprintf("tide %d is high", i), fmt.Sprintf("berth %d", i))
	}
	at = at.Add(time.Second)
	save.At = at
	b.Append(logbook.Entry{Unit: "tides"}, "tide 21 is high", "tide 22 is low", "tide 22 is low")
	b.Flush()
	page, err := log.Lines(t.Context(), api.LineQuery{Last: true, Similar: true, New: true, Values: true, Count: 10})
	require.NoError(t, err)
	var got []string
	for _, l := range page.Lines {
		got = append(got, fmt.Sprintf("%s %d %v %v", l.Text, l.Times, l.Similar, l.New))
	}
	assert.Equal(t, []string{
		"berth 19 20 true false", "tide 21 is high 21 true false", "tide 22 is low 2 false true",
	}, got)
	assert.Equal(t, []api.Value{{From: 0, To: 4}, {From: 5, To: 7}, {From: 8, To: 10}, {From: 11, To: 15}},
		page.Lines[1].Values)
	assert.Equal(t, page.Total, page.Known)
	assert.Zero(t, page.From)

	counts, err := log.Counts(t.Context(), api.CountQuery{From: at.Add(-time.Second), Column: api.Seconds(time.Second),
		Columns: 2})
	require.NoError(t, err)
	assert.Equal(t, api.Counts{Known: 43, Total: 43, Columns: []api.Count{
		{At: at.Add(-time.Second), Lines: 40}, {At: at, Lines: 3},
	}}, counts)
	for _, q := range []api.CountQuery{{}, {From: at, Columns: 3}, {From: at, Column: 1e9}} {
		_, err = log.Counts(t.Context(), q)
		assert.Error(t, err, "%v", q)
	}
}
