package runners

import (
	"maps"
	"slices"
	"strings"

	"omnivigil/internal/results"
	"omnivigil/internal/results/reason"
	"omnivigil/internal/results/source"
	"omnivigil/internal/text/lazyregexp"
)

// failureBlock is a failed case whose message and stack follow in the next lines, as most runners print them at their
// end.
type failureBlock struct {
	sink  results.Sink
	files *source.Files
	c     *results.Case // nil: none
}

// begin starts the block of a case. The case is reported when the block ends.
func (b *failureBlock) begin(suite, name string) {
	b.end()
	b.c = &results.Case{Suite: suite, Name: name, Status: results.Failed}
}

func (b *failureBlock) add(line string) {
	if b.c != nil {
		(*reason.Output)(&b.c.Output).Add(line)
	}
}

// end reports the case with its message and the first location in a file of the user.
func (b *failureBlock) end() {
	if b.c == nil {
		return
	}
	c := b.c
	b.c = nil
	if c.Location.Line == 0 {
		c.Location = reason.FirstOwn(b.files, c.Output)
	}
	if c.Message == "" {
		c.Message = messageOf(c.Output)
	}
	reason.Compare(c)
	b.sink.Ended(*c)
}

// suites are the suites that a run has reported something of, and whether that is a failure.
type suites map[string]bool

func (s suites) saw(suite string, bad bool) { s[suite] = s[suite] || bad }

// end reports that all of them have ended, and forgets them.
func (s suites) end(sink results.Sink, onlyFailures bool) {
	for _, name := range slices.Sorted(maps.Keys(s)) {
		sink.SuiteEnded(results.SuiteEnd{Suite: name, OK: !s[name], OnlyFailures: onlyFailures})
	}
	clear(s)
}

// notMessage matches lines of a block that are not the message: headings, places, stacks, excerpts of source.
var notMessage = lazyregexp.New(
	`^\s*(?:at .*|# \S+:\d+.*|❯ .*|>? *\d+ *\|.*|--|\| *\^.*|[~^ ]+|\S+\.\w+:\d+(?::in .*)?:?|Message:|Stack:|` +
		"from .*|rspec \\S+|Traceback .*|File \".*|Failure/Error: .*|─+|⎯+|\\+ expected - actual)\\s*$",
)

// messageOf returns the first lines of a block that are its message.
func messageOf(lines []string) string {
	const most = 8
	var kept []string
	for _, line := range lines {
		switch text := strings.TrimSpace(line); {
		case text == "" || notMessage.MatchString(line):
			if len(kept) > 0 && strings.HasPrefix(text, "at ") {
				return strings.Join(kept, "\n")
			}
		case len(kept) < most:
			kept = append(kept, text)
		}
	}
	return strings.Join(kept, "\n")
}
