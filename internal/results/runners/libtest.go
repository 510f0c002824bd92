package runners

import (
	"strings"
	"time"

	"omnivigil/internal/results"
	"omnivigil/internal/results/reason"
	"omnivigil/internal/results/source"
	"omnivigil/internal/text/lazyregexp"
)

// libtest reads the test harness of Rust's standard toolchain (library/test/src/formatters/pretty.rs of Rust): a line
// for each test, then the output of the failed ones.
type libtest struct {
	sink   results.Sink
	files  *source.Files
	suite  string // the binary, by cargo's name
	on     bool
	failed map[string]results.Case // by name
	log    *results.Case           // whose output follows
	broken bool                    // a test of the suite has failed
}

func newLibtest(sink results.Sink, f *source.Files) *libtest {
	return &libtest{sink: sink, files: f, failed: map[string]results.Case{}}
}

var (
	rustBinary = lazyregexp.New(`^ +(?:Running (?:unittests )?(\S+) \(\S+\)|(Doc-tests \S+))$`)
	rustPlan   = lazyregexp.New(`^running (\d+) tests?$`)
	rustTest   = lazyregexp.New(
		`^test (.+?)(?: - should panic)? \.\.\. (ok|FAILED|ignored(?:, (.*))?)(?: <(\d+\.\d+s)>)?$`,
	)
	rustLog   = lazyregexp.New(`^---- (.+) stdout ----$`)
	rustEnd   = lazyregexp.New(`^test result: (ok|FAILED)\. \d+ passed; `)
	rustPanic = lazyregexp.New(`^thread '.*' (?:\(\d+\) )?panicked at (?:'(.*)', )?([^ :]+):(\d+):(\d+):?$`)
)

func (l *libtest) Read(line string) (results.Mark, bool) {
	if !l.on && !strings.HasPrefix(line, "running ") && !strings.HasPrefix(line, " ") {
		return results.NoMark, false
	}
	if m := rustBinary.FindStringSubmatch(line); m != nil {
		l.suite = m[1] + m[2]
		return results.NoMark, true
	}
	if m := rustPlan.FindStringSubmatch(line); m != nil {
		l.on = true
		l.sink.Planned(source.Number(m[1]))
		return results.NoMark, true
	}
	if !l.on {
		return results.NoMark, false
	}
	if m := rustTest.FindStringSubmatch(line); m != nil {
		return l.test(m), true
	}
	if m := rustLog.FindStringSubmatch(line); m != nil {
		l.flush()
		if c, ok := l.failed[m[1]]; ok {
			l.log = &c
		}
		return results.NoMark, true
	}
	if m := rustEnd.FindStringSubmatch(line); m != nil {
		l.flush()
		l.sink.SuiteEnded(results.SuiteEnd{Suite: l.suite, OK: m[1] == "ok"})
		l.on, l.broken, l.failed = false, false, map[string]results.Case{}
		if m[1] != "ok" {
			return results.MarkFailure, true
		}
		return results.NoMark, true
	}
	if line == "failures:" || line == "successes:" {
		l.flush()
		return results.NoMark, true
	}
	if l.log != nil {
		(*reason.Output)(&l.log.Output).Add(line)
		return results.NoMark, true
	}
	return results.NoMark, false
}

func (l *libtest) test(m []string) results.Mark {
	took, _ := time.ParseDuration(m[4])
	c := results.Case{Suite: l.suite, Name: m[1], Status: results.Passed, Took: took}
	switch {
	case m[2] == "FAILED":
		c.Status = results.Failed
	case strings.HasPrefix(m[2], "ignored"):
		c.Status, c.Message = results.Skipped, m[3]
	}
	l.sink.Ended(c)
	if c.Status == results.Failed {
		l.failed[c.Name] = c
		return results.MarkFailure
	}
	return results.NoMark
}

// flush reports the failed test again when its output has ended.
func (l *libtest) flush() {
	c := l.log
	if c == nil {
		return
	}
	l.log = nil
	for i, line := range c.Output {
		if m := rustPanic.FindStringSubmatch(line); m != nil {
			c.Location = source.Place(l.files.Find(m[2]), m[3], m[4])
			if c.Message = m[1]; c.Message == "" {
				c.Message = rustMessage(c.Output[i+1:])
			}
			break
		}
	}
	if c.Message == "" {
		c.Message, c.Location = reason.FirstLine(c.Output), reason.FirstOwn(l.files, c.Output)
	}
	reason.Compare(c)
	l.sink.Ended(*c)
}

// rustMessage is the text after the line of a panic, up to the note about backtraces.
func rustMessage(lines []string) string {
	const most = 8
	var kept []string
	for _, line := range lines {
		if line == "" || strings.HasPrefix(line, "note: ") || strings.HasPrefix(line, "stack backtrace:") ||
			len(kept) == most {
			break
		}
		kept = append(kept, line)
	}
	return strings.Join(kept, "\n")
}

func (l *libtest) End(bool) { l.flush() }
