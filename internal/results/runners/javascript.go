package runners

import (
	"strings"

	"omnivigil/internal/results"
	"omnivigil/internal/results/source"
	"omnivigil/internal/text/lazyregexp"
)

// jest reads what Jest writes to a terminal: a heading for each file, failures below it, and totals.
type jest struct {
	block  failureBlock
	suite  string // the file
	suites suites
}

func newJest(sink results.Sink, f *source.Files) *jest {
	return &jest{block: failureBlock{sink: sink, files: f}, suites: suites{}}
}

var (
	jestFile   = lazyregexp.New(`^ ?(PASS|FAIL) {1,2}(?:\./)?(\S+\.[cm]?[jt]sx?)(?: \([\d.]+ m?s\))?$`)
	jestTitle  = lazyregexp.New(`^  ● (.+)$`)
	jestTotals = lazyregexp.New(`^Test Suites: (?:\d+ \w+, )*\d+ (?:of \d+ )?total$`)
	jestRuns   = lazyregexp.New(`^ RUNS  `)
)

func (j *jest) Read(line string) (results.Mark, bool) {
	if m := jestFile.FindStringSubmatch(line); m != nil {
		j.ended()
		j.suite = m[2]
		if j.suites.saw(j.suite, m[1] == "FAIL"); j.suites[j.suite] {
			return results.MarkFailure, true
		}
		return results.NoMark, true
	}
	switch {
	case j.suite == "":
		return results.NoMark, false
	case jestRuns.MatchString(line):
		return results.NoMark, true
	case jestTotals.MatchString(line):
		j.ended()
		return results.NoMark, true
	}
	if m := jestTitle.FindStringSubmatch(line); m != nil && j.suites[j.suite] {
		name := strings.ReplaceAll(m[1], " › ", "/")
		if name == "Test suite failed to run" {
			name = ""
		}
		j.tell()
		j.block.begin(j.suite, name)
		return results.MarkFailure, true
	}
	if j.block.c == nil {
		return results.NoMark, false
	}
	j.block.add(line)
	return results.NoMark, true
}

// jestBroken is what a compiler reports of a file that cannot be read, after a page of advice.
var jestBroken = lazyregexp.New(`^\s*(\w*Error: )(/\S+): (.*) \((\d+):(\d+)\)$`)

// tell reports the failure that has been read.
func (j *jest) tell() {
	if c := j.block.c; c != nil && c.Name == "" {
		for _, line := range c.Output {
			if m := jestBroken.FindStringSubmatch(line); m != nil {
				c.Message, c.Location = m[1]+m[3], source.Place(m[2], m[4], m[5])
			}
		}
	}
	j.block.end()
}

// ended closes the current file.
func (j *jest) ended() {
	j.tell()
	j.suites.end(j.block.sink, true)
	j.suite = ""
}

func (j *jest) End(bool) { j.ended() }

// vitest reads what Vitest writes to a terminal: with the reporter verbose a line for each test, then failures, and
// totals.
type vitest struct {
	block   failureBlock
	on      bool
	verbose bool
	suites  suites
}

func newVitest(sink results.Sink, f *source.Files) *vitest {
	return &vitest{block: failureBlock{sink: sink, files: f}, suites: suites{}}
}

var (
	vitestBegins = lazyregexp.New(`^ (?:RUN|DEV|RERUN)  \S`)
	vitestTitle  = lazyregexp.New(`^ FAIL  (\S+\.[cm]?[jt]sx?)(?: > (.+)| \[ .* \])$`)
	vitestTest   = lazyregexp.New(`^ ([✓×↓□]) (\S+\.[cm]?[jt]sx?) > (.+?)(?: \d+(?:\.\d+)?m?s)?$`)
	vitestFile   = lazyregexp.New(`^ [✓❯] (\S+\.[cm]?[jt]sx?) \(\d+ tests?`)
	vitestTotals = lazyregexp.New(`^ Test Files  `)
	vitestRule   = lazyregexp.New(`^⎯{10}`)
)

func (v *vitest) Read(line string) (results.Mark, bool) {
	switch {
	case vitestBegins.MatchString(line):
		v.on = true
		return results.NoMark, true
	case !v.on:
		return results.NoMark, false
	case vitestTotals.MatchString(line):
		v.ended()
		return results.NoMark, true
	case vitestRule.MatchString(line):
		v.block.end()
		return results.NoMark, true
	}
	if m := vitestTitle.FindStringSubmatch(line); m != nil {
		v.suites.saw(m[1], true)
		v.block.begin(m[1], strings.ReplaceAll(m[2], " > ", "/"))
		return results.MarkFailure, true
	}
	if m := vitestTest.FindStringSubmatch(line); m != nil {
		return v.test(m), true
	}
	if m := vitestFile.FindStringSubmatch(line); m != nil {
		v.suites.saw(m[1], false)
		return results.NoMark, true
	}
	if v.block.c == nil {
		return results.NoMark, false
	}
	v.block.add(line)
	return results.NoMark, true
}

func (v *vitest) test(m []string) results.Mark {
	v.verbose = true
	c := results.Case{
		Suite: m[2],
		Name:  strings.ReplaceAll(m[3], " > ", "/"),
		Status: map[string]results.Status{"✓": results.Passed, "×": results.Failed, "↓": results.Skipped,
			"□": results.Skipped}[m[1]],
	}
	v.suites.saw(c.Suite, c.Status == results.Failed)
	v.block.sink.Ended(c)
	if c.Status == results.Failed {
		return results.MarkFailure
	}
	return results.NoMark
}

func (v *vitest) ended() {
	v.block.end()
	v.suites.end(v.block.sink, !v.verbose)
	v.on, v.verbose = false, false
}

func (v *vitest) End(bool) { v.block.end() }
