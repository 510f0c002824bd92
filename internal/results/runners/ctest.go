package runners

import (
	"strings"
	"time"

	"omnivigil/internal/results"
	"omnivigil/internal/results/source"
	"omnivigil/internal/text/lazyregexp"
)

// ctest reads what CMake's ctest writes: a line for each test, with --output-on-failure followed by its output. A test
// whose program is missing has failed; one that is disabled or returns the code for that was skipped.
type ctest struct {
	block failureBlock
	on    bool
	bad   bool
	said  string // the last line since a test was started
}

func newCTest(sink results.Sink, f *source.Files) *ctest {
	return &ctest{block: failureBlock{sink: sink, files: f}}
}

var (
	ctestBegins = lazyregexp.New(`^Test project /`)
	ctestStart  = lazyregexp.New(`^ +Start +\d+: `)
	ctestTest   = lazyregexp.New(
		`^ *\d+/\d+ Test +#\d+: (\S.*?) \.*(?: +|\*\*\*)` +
			`(Passed|Failed|Not Run(?: \(Disabled\))?|Timeout|Skipped|Exception: .*?) +([\d.]+) sec(?: .*)?$`,
	)
	ctestTotals = lazyregexp.New(`^\d+% tests passed, \d+ tests? failed out of \d+$`)
)

func (t *ctest) Read(line string) (results.Mark, bool) {
	if ctestBegins.MatchString(line) {
		t.on = true
		return results.NoMark, true
	}
	if !t.on {
		return results.NoMark, false
	}
	if m := ctestTest.FindStringSubmatch(line); m != nil {
		return t.test(m), true
	}
	switch {
	case ctestStart.MatchString(line):
		t.block.end()
		t.said = ""
		return results.NoMark, true
	case ctestTotals.MatchString(line):
		t.ended()
		return results.NoMark, true
	case t.block.c != nil:
		t.block.add(line)
		return results.NoMark, true
	}
	if line != "" {
		t.said = line
	}
	return results.NoMark, false
}

func (t *ctest) test(m []string) results.Mark {
	t.block.end()
	took, _ := time.ParseDuration(m[3] + "s")
	c := results.Case{Name: m[1], Took: took, Status: results.Passed}
	switch {
	case m[2] == "Passed":
	case m[2] == "Skipped", strings.HasSuffix(m[2], "(Disabled)"):
		c.Status, c.Message = results.Skipped, strings.ToLower(strings.Trim(strings.TrimPrefix(m[2], "Not Run "), "()"))
	default:
		t.bad = true
		t.block.begin("", m[1])
		t.block.c.Took = took
		if m[2] == "Timeout" || m[2] == "Not Run" || strings.HasPrefix(m[2], "Exception") {
			t.block.c.Message = strings.TrimSuffix(m[2]+": "+t.said, ": ")
		}
		return results.MarkFailure
	}
	t.block.sink.Ended(c)
	return results.NoMark
}

func (t *ctest) ended() {
	t.block.end()
	t.block.sink.SuiteEnded(results.SuiteEnd{OK: !t.bad})
	t.on, t.bad = false, false
}

func (t *ctest) End(bool) { t.block.end() }
