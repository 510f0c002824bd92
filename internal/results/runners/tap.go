package runners

import (
	"cmp"
	"encoding/json"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"omnivigil/internal/results"
	"omnivigil/internal/results/reason"
	"omnivigil/internal/results/source"
	"omnivigil/internal/text/lazyregexp"
	"omnivigil/internal/text/location"
)

// tap reads the Test Anything Protocol, versions 13 and 14 (testanything.org), with the
// diagnostics of node --test, and of Perl's Test::More and prove.
type tap struct {
	sink  results.Sink
	files *source.Files
	suite string   // the current file, if prove reports it
	names []string // of the subtests that contain points, by depth; empty: none
	known []bool   // by depth: a deeper point has come since the last one at this depth
	bad   []bool   // and one of those has failed
	block *block
	last  *results.Case           // the newest point, which diagnostics are about
	told  map[string]results.Case // the failures of this suite, by name; also groups, whose cases are reported
	on    bool                    // there was a line that only this form has
	said  string                  // the text of the current file's program, if prove shows it
	again bool                    // last has to be reported again

	planned, points int // the outermost ones of this suite
	failures        int
	deep            int // the depth of the last failure that only a comment has reported
}

// planName is the case for the whole plan, if not all of it has run.
const planName = "plan"

// block is the YAML block after a point.
type block struct {
	indent string
	lines  []string
	quoted bool // in a text of several lines, which may not be indented
}

func newTAP(sink results.Sink, f *source.Files) *tap {
	return &tap{sink: sink, files: f, told: map[string]results.Case{}}
}

var (
	tapVersion = lazyregexp.New(`^\s*TAP version \d+$`)
	tapPoint   = lazyregexp.New(`^(not )?ok\b(?: +(\d+))?(?: +-)?(?: +(.*))?$`)
	tapPlan    = lazyregexp.New(`^1\.\.(\d+)( *#.*)?$`)
	tapSubtest = lazyregexp.New(`^# Subtest: (.*)$`)
	tapTime    = lazyregexp.New(`\s*# time=(\d+(?:\.\d+)?m?s)$`)                    // the form of node-tap
	tapGroup   = lazyregexp.New(`^(?:not )?ok +\d+ +- (.*?)(?:\s*# time=\S+)? \{$`) // the form of Vitest
	tapWord    = lazyregexp.New(`(?i)(?:^|\s)#\s*(skip\S*|todo)\b:?\s*(.*)$`)
	proveFile  = lazyregexp.New(`^(\S+\.t) \.{2,}\s*(.*)$`)
	proveEnd   = lazyregexp.New(`^Dubious, test returned (\d+)`)
	proveSays  = lazyregexp.New(`^\d+/[\d?]+\s+([^#\s].*)$`)
	tapComment = lazyregexp.New(`^#( {1,3}|$)(.*)$`)
)

func (t *tap) Read(line string) (results.Mark, bool) {
	if t.block != nil {
		return results.NoMark, t.goesOn(line)
	}
	text := strings.TrimLeft(line, " ")
	depth := (len(line) - len(text)) / 4
	if depth > 50 {
		return results.NoMark, false
	}
	switch {
	case text == "":
		return results.NoMark, false
	case t.on && text == "}":
		t.reach(depth + 1)
		t.flush()
		t.names[depth] = ""
		return results.NoMark, true
	case text[0] == 'o' || text[0] == 'n':
		if m := tapGroup.FindStringSubmatch(text); m != nil {
			if t.on = true; depth == 0 {
				t.points++
			}
			t.group(m[1], depth)
			return results.NoMark, true
		}
		if m := tapPoint.FindStringSubmatch(
			text,
		); m != nil &&
			(m[2] != "" || t.on && !strings.HasPrefix(text, "ok  \t")) {
			return t.point(m, depth), true
		}
	case text[0] == '#':
		return t.comment(text, depth)
	case text == "---" && t.last != nil:
		t.block = &block{indent: line[:len(line)-len(text)]}
		return results.NoMark, true
	case text[0] == '1':
		if m := tapPlan.FindStringSubmatch(text); m != nil {
			t.plan(source.Number(m[1]), depth)
			return results.NoMark, true
		}
	case text[0] == 'T' && tapVersion.MatchString(text):
		if depth == 0 {
			t.suiteEnded()
		}
		t.on = true
		return results.NoMark, true
	case strings.HasPrefix(text, "Bail out!"):
		t.tell(
			results.Case{
				Suite:   t.suite,
				Name:    planName,
				Status:  results.Failed,
				Message: strings.TrimSpace("bailed out: " + strings.TrimPrefix(text, "Bail out!")),
			},
		)
		return results.MarkFailure, true
	default:
		if m := proveFile.FindStringSubmatch(line); m != nil {
			if m[1] != t.suite { // it is repeated while a file is running
				t.suiteEnded()
			}
			t.suite, t.on = m[1], true
			return t.prove(m[2]), true
		}
	}
	return results.NoMark, false
}

// prove reads what prove writes behind a file's name. Without -v, it is all that is known of a file that dies.
func (t *tap) prove(text string) results.Mark {
	if m := proveSays.FindStringSubmatch(text); m != nil {
		t.said = m[1]
	}
	m := proveEnd.FindStringSubmatch(text)
	if m == nil {
		return results.NoMark
	}
	if t.failures == 0 {
		t.tell(results.Case{Suite: t.suite, Status: results.Failed,
			Message: cmp.Or(t.said, "the file exited with status "+m[1])})
	}
	return results.MarkFailure
}

// reach extends or cuts the lists by depth to a depth.
func (t *tap) reach(depth int) {
	for len(t.names) <= depth {
		t.names, t.known, t.bad = append(t.names, ""), append(t.known, false), append(t.bad, false)
	}
}

func (t *tap) plan(n, depth int) {
	t.on = true
	if depth == 0 {
		t.planned += n
		t.sink.Planned(n)
	}
}

// suiteEnded closes a suite: planned points that are missing have failed.
func (t *tap) suiteEnded() {
	t.flush()
	if !t.on {
		return
	}
	if missing := t.planned - t.points; missing > 0 && t.points > 0 {
		t.tell(
			results.Case{
				Suite:   t.suite,
				Name:    planName,
				Status:  results.Failed,
				Message: fmt.Sprintf("%d of %d planned tests did not run", missing, t.planned),
			},
		)
	}
	if t.suite != "" {
		t.sink.SuiteEnded(results.SuiteEnd{Suite: t.suite, OK: t.failures == 0, OnlyFailures: t.points == 0})
	}
	t.said = ""
	t.planned, t.points, t.failures, t.told = 0, 0, 0, map[string]results.Case{}
	t.names, t.known, t.bad = nil, nil, nil
}

func (t *tap) point(m []string, depth int) results.Mark {
	t.flush()
	t.on = true
	t.reach(depth + 1)
	if depth == 0 {
		t.points++
	}
	c := results.Case{Suite: t.suite, Status: results.Passed}
	if m[1] != "" {
		c.Status = results.Failed
	}
	text := m[3]
	if at := tapTime.FindStringSubmatchIndex(text); at != nil {
		c.Took, _ = time.ParseDuration(text[at[2]:at[3]])
		text = text[:at[0]]
	}
	if w := tapWord.FindStringSubmatchIndex(text); w != nil {
		c.Status, c.Message = results.Skipped, text[w[4]:w[5]]
		text = text[:w[0]]
	}
	text = strings.TrimSpace(strings.TrimPrefix(unescapeTAP(text), "- "))
	if text == "" {
		text = "test " + m[2]
	}
	inner, innerBad := t.known[depth+1], t.bad[depth+1]
	for i := depth + 1; i < len(t.known); i++ {
		t.names[i], t.known[i], t.bad[i] = "", false, false
	}
	t.names[depth] = ""
	t.known[depth], t.bad[depth] = true, t.bad[depth] || c.Status == results.Failed
	c.Name = text
	for i := depth - 1; i >= 0; i-- {
		if t.names[i] != "" {
			c.Name = t.names[i] + "/" + c.Name
		}
	}
	t.last = &c
	switch {
	case inner && (c.Status != results.Failed || innerBad): // its subtests are reported
		t.told[c.Name], t.last = results.Case{}, nil
	case c.Status == results.Failed:
		t.tell(c)
		return results.MarkFailure
	default:
		t.again = true
	}
	return results.NoMark
}

func unescapeTAP(text string) string {
	return strings.NewReplacer(`\#`, "#", `\\`, `\`).Replace(text)
}

func (t *tap) tell(c results.Case) {
	if filepath.IsAbs(c.Name) { // a file that failed as a whole
		c.Suite, c.Name = t.files.Short(c.Name), ""
	}
	if c.Status == results.Failed {
		reason.Compare(&c)
		t.failures++
		t.told[c.Name] = c
	}
	t.sink.Ended(c)
}

// flush reports the last point again, if more is known of it.
func (t *tap) flush() {
	if t.last != nil && t.again {
		if t.last.Status == results.Failed && t.last.Message == "" && len(t.last.Output) > 0 {
			at := t.last.Location
			if reason.Explain(t.last, t.files); at.Line > 0 {
				t.last.Location = at
			}
		}
		t.tell(*t.last)
	}
	t.again, t.last = false, nil
}

// group begins the points that a name contains.
func (t *tap) group(name string, depth int) {
	t.flush()
	t.reach(depth + 1)
	t.names[depth] = strings.TrimSpace(unescapeTAP(name))
	t.sink.Began(t.suite, t.path(depth))
}

// path returns the names down to a depth.
func (t *tap) path(depth int) string {
	path := t.names[depth]
	for i := depth - 1; i >= 0; i-- {
		if t.names[i] != "" {
			path = t.names[i] + "/" + path
		}
	}
	return path
}

// comment reads the text after "#": the name of the next subtest, or what Test::More reports about a point.
func (t *tap) comment(text string, depth int) (results.Mark, bool) {
	if m := tapSubtest.FindStringSubmatch(text); m != nil {
		t.on = true
		t.group(m[1], depth)
		return results.NoMark, true
	}
	m := tapComment.FindStringSubmatch(text)
	if m == nil || !t.on {
		return results.NoMark, false
	}
	if f := failedTest.FindStringSubmatch(m[2]); f != nil {
		return t.failed(f[1], depth), true
	}
	if t.last != nil && t.last.Status == results.Failed {
		t.diagnose(m[2])
	}
	return results.NoMark, true
}

// failed reads the comment that a test has failed, which comes before or after the point itself; prove without -v
// prints no points at all.
func (t *tap) failed(name string, depth int) results.Mark {
	t.flush()
	for full, c := range t.told {
		if full == name || strings.HasSuffix(full, "/"+name) {
			if c.Status == results.Failed {
				t.last = &c
			}
			return results.NoMark
		}
	}
	inner := t.deep == depth+1 && t.points == 0
	if t.deep = depth; inner { // it failed because of the failure before
		return results.NoMark
	}
	t.last = &results.Case{Suite: t.suite, Name: name, Status: results.Failed}
	t.tell(*t.last)
	return results.MarkFailure
}

var (
	failedTest = lazyregexp.New(`^\s*Failed test '(.*)'$`)
	atLine     = lazyregexp.New(`^\s*(?:in|at) (\S+) (?:at )?line (\d+)\.?$`)
	gotValue   = lazyregexp.New(`^\s*got: (.*)$`)
	wantValue  = lazyregexp.New(`^\s*expected: (.*)$`)
)

// diagnose reads a line of Test::More about the last point.
func (t *tap) diagnose(text string) {
	c := t.last
	switch {
	case strings.HasPrefix(text, "Looks like you "):
		return
	case atLine.MatchString(text):
		m := atLine.FindStringSubmatch(text)
		c.Location = location.Location{File: t.files.Find(m[1]), Line: source.Number(m[2])}
		t.again = true
		return
	case gotValue.MatchString(text):
		c.Got = gotValue.FindStringSubmatch(text)[1]
	case wantValue.MatchString(text):
		c.Want = wantValue.FindStringSubmatch(text)[1]
	}
	(*reason.Output)(&c.Output).Add(text)
	if c.Message = ""; c.Want != "" && c.Got != "" {
		c.Message = fmt.Sprintf("got %s, expected %s", c.Got, c.Want)
	}
	t.again = true
}

// goesOn reads a line of the block, and reports whether it is one.
func (t *tap) goesOn(line string) bool {
	b := t.block
	rest, inside := strings.CutPrefix(line, b.indent)
	switch {
	case b.quoted:
		b.add("  " + line)
	case strings.TrimSpace(line) == "...", !inside && strings.TrimSpace(line) != "":
		t.block = nil
		t.learn(strings.Join(b.lines, "\n"))
		return strings.TrimSpace(line) == "..."
	default:
		b.add(rest)
	}
	return true
}

// add keeps a line. A text that begins with a quote continues up to the next one.
func (b *block) add(line string) {
	if len(b.lines) < results.MaxOutput {
		b.lines = append(b.lines, line)
	}
	quotes := 0
	if b.quoted {
		quotes = quotesIn(line)
	} else if _, text, found := strings.Cut(line, `: "`); found {
		quotes = 1 + quotesIn(text)
	}
	if quotes%2 == 1 {
		b.quoted = !b.quoted
	}
}

func quotesIn(text string) int { return strings.Count(text, `"`) - strings.Count(text, `\"`) }

// learn reads the YAML about the last point, with the keys of Node and of the protocol's examples.
func (t *tap) learn(text string) {
	c := t.last
	if c == nil {
		return
	}
	if t.again = true; c.Status == results.Failed {
		c.Output = strings.Split(text, "\n")
	}
	values := map[string]any{}
	if yaml.Unmarshal([]byte(text), &values) != nil {
		return // the text is shown unchanged
	}
	word := func(names ...string) string {
		for _, name := range names {
			switch v := values[name].(type) {
			case nil:
			case map[string]any: // Vitest's error has a name and a message
				if message, ok := v["message"].(string); ok {
					return message
				}
				text, _ := json.Marshal(v)
				return string(text)
			case []any:
				if text, err := json.Marshal(v); err == nil {
					return string(text)
				}
			default:
				return strings.TrimSpace(fmt.Sprint(v))
			}
		}
		return ""
	}
	if ms, err := time.ParseDuration(word("duration_ms") + "ms"); err == nil && ms > 0 {
		c.Took = ms
	}
	if c.Status != results.Failed {
		return
	}
	c.Message = word("error", "message")
	c.Want, c.Got = word("expected", "wanted"), word("actual", "found", "got")
	if p := reason.FirstOwn(t.files, strings.Split(word("stack"), "\n")); p.Line > 0 {
		c.Location = p
	} else if p := reason.FirstOwn(t.files, []string{word("location")}); p.Line > 0 {
		c.Location = p
	} else if p := reason.FirstOwn(t.files, []string{word("at")}); p.Line > 0 { // the form of Vitest
		c.Location = p
	} else if at, ok := values["at"].(map[string]any); ok { // the form of node-tap
		file, line := fmt.Sprint(at["file"]), fmt.Sprint(at["line"])
		c.Location = location.Location{File: t.files.Find(file), Line: source.Number(line)}
	}
}

func (t *tap) End(complete bool) {
	if b := t.block; b != nil {
		t.block = nil
		t.learn(strings.Join(b.lines, "\n"))
	}
	if complete {
		t.suiteEnded()
	} else {
		t.flush()
	}
}
