package gotest

import (
	"cmp"
	"slices"
	"strings"

	"omnivigil/internal/results"
	"omnivigil/internal/results/reason"
	"omnivigil/internal/results/source"
	"omnivigil/internal/text/lazyregexp"
	"omnivigil/internal/text/location"
)

// isBenchmark reports whether a test is a benchmark, whose end package testing reports only if it fails.
func isBenchmark(name string) bool { return strings.HasPrefix(name, "Benchmark") }

// timeout reads what package testing prints when a test binary runs longer than -timeout: the tests that were running
// and the stacks of all goroutines.
type timeout struct {
	message string
	running []string
	listing bool
	stacks  reason.Output
}

var (
	goTimeout = lazyregexp.New(`^panic: (test timed out after \S+)$`)
	goRunning = lazyregexp.New(`^\t\t(\S+) \([^)]+\)$`)
)

// read reports whether a line belongs to it.
func (t *timeout) read(line string) bool {
	if m := goTimeout.FindStringSubmatch(line); m != nil {
		t.message = m[1]
		return true
	}
	if t.message == "" {
		return false
	}
	if m := goRunning.FindStringSubmatch(line); t.listing && m != nil {
		t.running = slices.DeleteFunc(t.running, func(name string) bool { return name == parentOf(m[1]) })
		t.running = append(t.running, m[1])
		return true
	}
	if t.listing = line == "\trunning tests:"; !t.listing {
		t.stacks.Add(line)
	}
	return true
}

// explain adds to a case that has not ended why it did not.
func (t *timeout) explain(c *results.Case, f *source.Files) {
	switch {
	case t.message == "" || !slices.Contains(t.running, c.Name):
		c.Message = cmp.Or(c.Message, unended)
	default:
		c.Message = t.message
		c.Location = t.placeOf(c.Name, f)
	}
}

// placeOf returns the location of the innermost call in a file of the user, in the goroutine of a test.
func (t *timeout) placeOf(name string, f *source.Files) location.Location {
	begin := 0
	for i, line := range t.stacks {
		if strings.HasPrefix(line, "goroutine ") {
			begin = i
		}
		// The call of the test's function ends the user's part of its stack.
		if function, _, _ := strings.Cut(name, "/"); strings.Contains(line, "."+function+"(") ||
			strings.Contains(line, "."+function+".func") {
			return reason.FirstOwn(f, t.stacks[begin:min(i+2, len(t.stacks))])
		}
	}
	return location.Location{}
}
