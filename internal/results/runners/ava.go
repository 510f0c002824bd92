package runners

import (
	"strings"

	"omnivigil/internal/results"
	"omnivigil/internal/results/source"
	"omnivigil/internal/text/lazyregexp"
	"omnivigil/internal/text/location"
)

// ava reads what AVA prints: a line for each test, then a block for each failure below a short rule, and totals.
// Other runners have the same sign before tests that passed, so they are reported when a line of AVA alone has come.
type ava struct {
	block  failureBlock
	on     bool
	passed []results.Case  // seen before it was on
	failed map[string]bool // the titles of failed tests
	blocks bool            // the blocks have begun
}

func newAVA(sink results.Sink, f *source.Files) *ava {
	return &ava{block: failureBlock{sink: sink, files: f}, failed: map[string]bool{}}
}

var (
	avaTest = lazyregexp.New(
		`^  (✔ \[expected fail\]|✔|✘ \[fail\]:|✘ \[unexpected pass\]|- \[skip\]|- \[todo\]) ` +
			`(\S.*?)(?: \([\d.]+m?s\))?$`,
	)
	avaPlace  = lazyregexp.New(`^  (\S+\.[cm]?[jt]sx?):(\d+)$`)
	avaError  = lazyregexp.New(`^  (\w*(?:Error|Exception): .+)$`)
	avaSource = lazyregexp.New(`^ +\d+: |^  › |^  Error thrown in test:$`)
	avaValue  = lazyregexp.New(`^  ([-+]) (.+)$`)
	avaTotals = lazyregexp.New(`^  (?:\d+ (?:tests?|known failures?|uncaught exceptions?|unhandled rejections?)\b.*)$`)
)

// avaThrown is written after the title of a test that has thrown an error.
const avaThrown = " Error thrown in test"

// maxPassed limits the tests that are kept until it is clear that AVA runs.
const maxPassed = 10_000

func (a *ava) Read(line string) (results.Mark, bool) {
	if m := avaTest.FindStringSubmatch(line); m != nil && !a.blocks {
		return a.test(m[1], m[2])
	}
	switch {
	case avaTotals.MatchString(line) && (a.on || len(a.passed) > 0):
		a.on = true
		a.tellPassed()
		a.block.end()
		a.blocks = false
		return results.NoMark, true
	case !a.on:
		return results.NoMark, false
	case line == "  ─":
		a.block.end()
		a.blocks = true
		return results.NoMark, true
	}
	if title := strings.TrimPrefix(line, "  "); a.blocks && a.failed[title] {
		suite, name := avaName(title)
		a.block.begin(suite, name)
		return results.MarkFailure, true
	}
	if a.block.c == nil {
		return results.NoMark, false
	}
	a.more(line)
	return results.NoMark, true
}

// avaName returns the file, where there are several, and the name of a test.
func avaName(title string) (suite, name string) {
	if suite, name, both := strings.Cut(title, " › "); both {
		return suite, strings.ReplaceAll(name, " › ", "/")
	}
	return "", title
}

func (a *ava) test(sign, title string) (results.Mark, bool) {
	title = strings.TrimSuffix(title, avaThrown)
	c := results.Case{Status: results.Passed}
	c.Suite, c.Name = avaName(title)
	if sign == "✔" && !a.on {
		if len(a.passed) < maxPassed {
			a.passed = append(a.passed, c)
		}
		return results.NoMark, false
	}
	a.on = true
	a.tellPassed()
	mark := results.NoMark
	switch sign {
	case "✘ [fail]:", "✘ [unexpected pass]":
		c.Status, mark = results.Failed, results.MarkFailure
		a.failed[title] = true
	case "- [skip]", "- [todo]":
		c.Status = results.Skipped
	}
	a.block.sink.Ended(c)
	return mark, true
}

func (a *ava) tellPassed() {
	for _, c := range a.passed {
		a.block.sink.Ended(c)
	}
	a.passed = nil
}

// more reads a line of a block: the location, the source, a message, a difference of values, a stack.
func (a *ava) more(line string) {
	c := a.block.c
	if m := avaPlace.FindStringSubmatch(line); m != nil && c.Location.Line == 0 {
		if path, exists := a.block.files.Existing(m[1]); exists {
			c.Location = location.Location{File: path, Line: source.Number(m[2])}
			return
		}
	}
	if m := avaValue.FindStringSubmatch(line); m != nil {
		if m[1] == "-" && c.Got == "" {
			c.Got = m[2]
		} else if m[1] == "+" && c.Want == "" {
			c.Want = m[2]
		}
	}
	if m := avaError.FindStringSubmatch(line); m != nil && c.Message == "" {
		c.Message = m[1]
	}
	if !avaSource.MatchString(line) {
		a.block.add(strings.TrimPrefix(line, "  "))
	}
}

func (a *ava) End(bool) { a.block.end() }
