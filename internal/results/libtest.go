package results

import (
	"regexp"
	"strings"
	"time"
)

// libtest reads the test harness of Rust's standard toolchain (library/test/src/formatters/pretty.rs
// of Rust): a line for each test, then what those have written that failed.
type libtest struct {
	sink   Sink
	files  *sourceFiles
	suite  string // the binary, as cargo names it
	on     bool
	failed map[string]Case // by name
	log    *Case           // whose output comes
	broken bool            // a test of the suite has failed
}

func newLibtest(sink Sink, f *sourceFiles) *libtest {
	return &libtest{sink: sink, files: f, failed: map[string]Case{}}
}

var (
	rustBinary = regexp.MustCompile(`^ +(?:Running (?:unittests )?(\S+) \(\S+\)|(Doc-tests \S+))$`)
	rustPlan   = regexp.MustCompile(`^running (\d+) tests?$`)
	rustTest   = regexp.MustCompile(
		`^test (.+?)(?: - should panic)? \.\.\. (ok|FAILED|ignored(?:, (.*))?)(?: <(\d+\.\d+s)>)?$`,
	)
	rustLog   = regexp.MustCompile(`^---- (.+) stdout ----$`)
	rustEnd   = regexp.MustCompile(`^test result: (ok|FAILED)\. \d+ passed; `)
	rustPanic = regexp.MustCompile(`^thread '.*' (?:\(\d+\) )?panicked at (?:'(.*)', )?([^ :]+):(\d+):(\d+):?$`)
)

func (l *libtest) read(line string) (Mark, bool) {
	if !l.on && !strings.HasPrefix(line, "running ") && !strings.HasPrefix(line, " ") {
		return NoMark, false
	}
	if m := rustBinary.FindStringSubmatch(line); m != nil {
		l.suite = m[1] + m[2]
		return NoMark, true
	}
	if m := rustPlan.FindStringSubmatch(line); m != nil {
		l.on = true
		l.sink.Planned(number(m[1]))
		return NoMark, true
	}
	if !l.on {
		return NoMark, false
	}
	if m := rustTest.FindStringSubmatch(line); m != nil {
		return l.test(m), true
	}
	if m := rustLog.FindStringSubmatch(line); m != nil {
		l.flush()
		if c, ok := l.failed[m[1]]; ok {
			l.log = &c
		}
		return NoMark, true
	}
	if m := rustEnd.FindStringSubmatch(line); m != nil {
		l.flush()
		l.sink.SuiteEnded(SuiteEnd{Suite: l.suite, OK: m[1] == "ok"})
		l.on, l.broken, l.failed = false, false, map[string]Case{}
		if m[1] != "ok" {
			return MarkFailure, true
		}
		return NoMark, true
	}
	if line == "failures:" || line == "successes:" {
		l.flush()
		return NoMark, true
	}
	if l.log != nil {
		(*output)(&l.log.Output).add(line)
		return NoMark, true
	}
	return NoMark, false
}

func (l *libtest) test(m []string) Mark {
	took, _ := time.ParseDuration(m[4])
	c := Case{Suite: l.suite, Name: m[1], Status: Passed, Took: took}
	switch {
	case m[2] == "FAILED":
		c.Status = Failed
	case strings.HasPrefix(m[2], "ignored"):
		c.Status, c.Message = Skipped, m[3]
	}
	l.sink.Ended(c)
	if c.Status == Failed {
		l.failed[c.Name] = c
		return MarkFailure
	}
	return NoMark
}

// flush tells once more the failed test whose output has ended.
func (l *libtest) flush() {
	c := l.log
	if c == nil {
		return
	}
	l.log = nil
	for i, line := range c.Output {
		if m := rustPanic.FindStringSubmatch(line); m != nil {
			c.Place = Place{File: l.files.find(m[2]), Line: number(m[3]), Column: number(m[4])}
			if c.Message = m[1]; c.Message == "" {
				c.Message = rustMessage(c.Output[i+1:])
			}
			break
		}
	}
	if c.Message == "" {
		c.Message, c.Place = firstLine(c.Output), firstOwn(l.files, c.Output)
	}
	c.compare()
	l.sink.Ended(*c)
}

// rustMessage is what follows the line of a panic, up to the note about backtraces.
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

func (l *libtest) end(bool) { l.flush() }
