package runners

import (
	"path/filepath"
	"slices"
	"strings"
	"time"

	"omnivigil/internal/results"
	"omnivigil/internal/results/reason"
	"omnivigil/internal/results/source"
	"omnivigil/internal/text/lazyregexp"
	"omnivigil/internal/text/location"
)

// spec reads what node --test writes to a terminal (lib/internal/test_runner/reporter/spec.js of Node): a tree of
// names with symbols before them, and at the end each failure again, with its location.
type spec struct {
	sink    results.Sink
	files   *source.Files
	on      bool
	open    []string          // names of the open subtests, by depth
	last    *results.Case     // a failed one, whose message follows
	deep    int               // its indentation
	failing bool              // the list of failures has begun
	place   location.Location // of the next failure in it
	failed  []results.Case    // the failures so far
	dots    dots
	closed  map[string]bool
}

// dots is what the reporter dot has printed: a sign for each test, then the failures, with the tests that contain them.
type dots int

const (
	noDots   dots = iota
	dotsSeen      // the line before consists of signs, or was empty after one
	dotsList      // the list of failures has begun
)

func newSpec(sink results.Sink, f *source.Files) *spec {
	return &spec{sink: sink, files: f, closed: map[string]bool{}}
}

var (
	specLine  = lazyregexp.New(`^( *)([✔✖﹣⚠▶ℹ]) (.+?)(?: \((\d+(?:\.\d+)?)ms\)( # .*)?)?$`)
	specDots  = lazyregexp.New(`^[.X]+$`)
	specPlace = lazyregexp.New(`^test at (.+):(\d+):(\d+)$`)
)

func (s *spec) Read(line string) (results.Mark, bool) {
	switch {
	case s.dots == dotsList:
	case specDots.MatchString(line):
		s.dots = dotsSeen
	case s.dots == dotsSeen && line == "Failed tests:":
		s.dots, s.on = dotsList, true
		return results.NoMark, true
	case line != "":
		s.dots = noDots
	}
	if m := specLine.FindStringSubmatch(line); m != nil && (s.on || m[2] == "▶" || strings.Contains(m[4], ".")) {
		return s.sign(m), true
	}
	switch {
	case !s.on:
		return results.NoMark, false
	case specPlace.MatchString(line):
		m := specPlace.FindStringSubmatch(line)
		s.flush()
		s.place = source.Place(s.files.Find(m[1]), m[2], m[3])
		return results.NoMark, true
	case s.last != nil && (line == "" || strings.HasPrefix(line, strings.Repeat(" ", s.deep+2))):
		(*reason.Output)(&s.last.Output).Add(strings.TrimPrefix(line, strings.Repeat(" ", s.deep+2)))
		return results.NoMark, true
	}
	return results.NoMark, false
}

func (s *spec) sign(m []string) results.Mark {
	s.flush()
	s.on = true
	depth, name := len(m[1])/2, m[3]
	if depth > 50 {
		return results.NoMark
	}
	path := name
	if !s.failing {
		s.open = append(s.open[:min(depth, len(s.open))], make([]string, max(0, depth-len(s.open)))...)
		path = strings.Join(
			slices.DeleteFunc(append(slices.Clone(s.open[:depth]), name), func(n string) bool { return n == "" }),
			"/",
		)
	}
	switch m[2] {
	case "ℹ":
		return results.NoMark
	case "▶":
		if m[4] == "" {
			s.open = append(s.open, name)
			s.sink.Began("", path)
			s.closed[path] = true
		}
		return results.NoMark
	}
	if name == "failing tests:" {
		s.failing = true
		return results.NoMark
	}
	if s.failing {
		s.again(name, depth)
		return results.MarkFailure
	}
	if s.closed[path] { // its subtests have been reported
		delete(s.closed, path)
		return results.NoMark
	}
	took, _ := time.ParseDuration(m[4] + "ms")
	c := results.Case{
		Name: path,
		Status: map[string]results.Status{"✔": results.Passed, "✖": results.Failed, "﹣": results.Skipped,
			"⚠": results.Skipped}[m[2]],
		Took: took,
	}
	c.Message = strings.TrimPrefix(m[5], " # ")
	if word := specWord.FindStringSubmatch(c.Message); word != nil { // it was skipped, or expected to fail
		c.Status, c.Message = results.Skipped, word[1]
	}
	if c.Status == results.Failed {
		c.Message = ""
		s.failed = append(s.failed, c)
		s.last, s.deep = &c, len(m[1])
		if s.dots != dotsList { // there, only its message shows whether it contains others
			s.tell(c)
		}
		return results.MarkFailure
	}
	s.tell(c)
	return results.NoMark
}

// again continues a failure that is repeated at the end.
func (s *spec) again(name string, depth int) {
	s.last = nil
	for _, c := range s.failed {
		if c.Name == name || strings.HasSuffix(c.Name, "/"+name) {
			c.Output, c.Location = nil, s.place
			s.last, s.deep = &c, 2*depth
			return
		}
	}
}

// flush reports the failed case when its message has ended.
func (s *spec) flush() {
	c := s.last
	if c == nil {
		return
	}
	s.last = nil
	if len(c.Output) == 0 || s.dots == dotsList && subtestsFailed.MatchString(c.Output[0]) {
		return
	}
	at := c.Location
	c.Message, c.Location = specMessage(c.Output), reason.FirstOwn(s.files, c.Output)
	c.Want, c.Got = "", ""
	for _, line := range c.Output {
		if m := specValue.FindStringSubmatch(line); m != nil {
			if m[1] == "actual" {
				c.Got = m[2]
			} else {
				c.Want = m[2]
			}
		}
	}
	if c.Location.Line == 0 {
		c.Location = at
	}
	reason.Compare(c)
	s.tell(*c)
	for i := range s.failed {
		if s.failed[i].Name == c.Name {
			s.failed[i] = *c
		}
	}
}

var subtestsFailed = lazyregexp.New(`^'\d+ subtests? failed'$`)

var specWord = lazyregexp.New(`(?i)^(?:skip|todo)\b:?\s*(.*)$`)

var specValue = lazyregexp.New(`^\s*(actual|expected): (.+?),?$`)

// tell reports a case. A file that failed as a whole has its path as its name.
func (s *spec) tell(c results.Case) {
	if filepath.IsAbs(c.Name) {
		c.Suite, c.Name = s.files.Short(c.Name), ""
	}
	s.sink.Ended(c)
}

// specMessage is the text before the frames of a stack trace.
func specMessage(lines []string) string {
	const most = 8
	var kept []string
	for _, line := range lines {
		if strings.HasPrefix(strings.TrimSpace(line), "at ") || len(kept) == most {
			break
		}
		if strings.TrimSpace(line) != "" {
			kept = append(kept, strings.Trim(strings.TrimSpace(line), "'"))
		}
	}
	return strings.Join(kept, "\n")
}

func (s *spec) End(bool) { s.flush() }
