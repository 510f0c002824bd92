package runners

import (
	"strings"

	"omnivigil/internal/results"
	"omnivigil/internal/results/source"
	"omnivigil/internal/text/lazyregexp"
	"omnivigil/internal/text/location"
)

// bats reads what Bats prints to a terminal: the file, a line for each test with the reason of a failure below it, and
// totals.
type bats struct {
	block  failureBlock
	suite  string
	suites suites
}

func newBats(sink results.Sink, f *source.Files) *bats {
	return &bats{block: failureBlock{sink: sink, files: f}, suites: suites{}}
}

var (
	batsFile   = lazyregexp.New(`^\S+\.bats$`)
	batsTest   = lazyregexp.New(`^ ([✓✗-]) (\S.*?)(?: \(skipped(?:: (.*))?\))?(?: \[\d+\])?$`)
	batsPlace  = lazyregexp.New(`^\s+\(.*in test file (\S+), line (\d+)\)$`)
	batsReason = lazyregexp.New("^\\s+`(.*)' failed(?: with status \\d+)?$")
	batsEnds   = lazyregexp.New(`^\d+ tests?, \d+ failures?\b`)
)

func (b *bats) Read(line string) (results.Mark, bool) {
	switch {
	case batsFile.MatchString(line):
		b.block.end()
		b.suite = line
		b.suites.saw(line, false)
		return results.NoMark, true
	case b.suite == "":
		return results.NoMark, false
	case batsEnds.MatchString(line):
		b.ended()
		return results.NoMark, true
	}
	if m := batsTest.FindStringSubmatch(line); m != nil {
		return b.test(m), true
	}
	c := b.block.c
	if c == nil || !strings.HasPrefix(line, "   ") {
		return results.NoMark, false
	}
	if m := batsPlace.FindStringSubmatch(line); m != nil {
		c.Location = location.Location{File: b.block.files.Find(m[1]), Line: source.Number(m[2])}
		return results.NoMark, true
	}
	if m := batsReason.FindStringSubmatch(line); m != nil {
		c.Message = m[1] + " failed"
	}
	b.block.add(strings.TrimPrefix(line, "   "))
	return results.NoMark, true
}

func (b *bats) test(m []string) results.Mark {
	b.block.end()
	switch m[1] {
	case "✗":
		b.suites.saw(b.suite, true)
		b.block.begin(b.suite, m[2])
		return results.MarkFailure
	case "-":
		b.block.sink.Ended(results.Case{Suite: b.suite, Name: m[2], Status: results.Skipped, Message: m[3]})
	default:
		b.block.sink.Ended(results.Case{Suite: b.suite, Name: m[2], Status: results.Passed})
	}
	return results.NoMark
}

func (b *bats) ended() {
	b.block.end()
	b.suites.end(b.block.sink, false)
	b.suite = ""
}

func (b *bats) End(bool) { b.block.end() }
