// Package reason finds in the output of a failed test why it failed: the message, the location, and the expected and
// the actual value. It does not know which runner has written the output. Start reading at Explain.
package reason

import (
	"slices"
	"strings"

	"omnivigil/internal/results"
	"omnivigil/internal/results/source"
	"omnivigil/internal/text/lazyregexp"
	"omnivigil/internal/text/location"
)

// Explain finds in a failed case's output why it failed: the message, the location, and if possible the expected and
// the actual value. Directories are those that file names may be relative to, in addition to the unit's.
func Explain(c *results.Case, f *source.Files, folders ...string) {
	defer Compare(c)
	if i := slices.IndexFunc(c.Output, GoPanic.MatchString); i >= 0 {
		c.Message, c.Location = GoPanic.FindString(c.Output[i]), FirstOwn(f, c.Output[i:])
		return
	}
	at := reasonOf(c, f, folders)
	if at < 0 {
		c.Message, c.Location = FirstLine(c.Output), FirstOwn(f, c.Output)
	} else {
		m := GoLog.FindStringSubmatch(c.Output[at])
		c.Location = location.Location{File: f.Find(m[1], folders...), Line: source.Number(m[2])}
		if c.Message = goOn(m[3], c.Output[at+1:]); isRace(c.Message) {
			c.Location = FirstOwn(f, c.Output)
		}
	}
	if c.Status == results.Skipped {
		c.Location = location.Location{}
	}
}

// reasonOf returns the index of the log line of package testing that is the reason why a test failed or was skipped;
// -1: there is none. The format does not distinguish t.Log from t.Error, but the source does: the reason is the first
// line that was not merely logged. A skipped test ends with its reason.
func reasonOf(c *results.Case, f *source.Files, folders []string) int {
	reason := -1
	for i, line := range c.Output {
		m := GoLog.FindStringSubmatch(line)
		switch {
		case m == nil:
		case isRace(m[3]):
			return i
		default:
			text := f.Line(f.Find(m[1], folders...), source.Number(m[2]))
			if reason = i; c.Status == results.Failed && !goLogs.MatchString(text) {
				return i
			}
		}
	}
	return reason
}

// goLogs matches a call that only logs.
var goLogs = lazyregexp.New(`\.Logf?\(`)

var (
	// The prefix of package testing before a test's log: its file and line.
	GoLog   = lazyregexp.New(`^\s*([\w.@-]+\.go):(\d+): ?(.*)$`)
	GoPanic = lazyregexp.New(`^\s*(?:panic|fatal error): .*`)
	// Locations in traces and messages: of Go, Node and Rust, of Python, in brackets.
	anyPlace = lazyregexp.New(
		`(?:^|[\s("'])((?:file://)?(?:[A-Za-z]:[\\/])?[\w@.~/\\+-]*\.[A-Za-z]\w*):(\d+)(?::(\d+))?|File "([^"]+)", ` +
			`line (\d+)|(?:^|\s)at (\S+) line (\d+)`,
	)
)

func isRace(message string) bool { return strings.HasPrefix(message, "race detected") }

// goOn joins the indented lines below the first line of a message, up to a few.
func goOn(message string, rest []string) string {
	const most = 12
	if text := testify(rest); text != "" && strings.TrimSpace(message) == "" {
		return text
	}
	var b strings.Builder
	b.WriteString(message)
	for _, line := range rest[:min(len(rest), most)] {
		if !strings.HasPrefix(line, "        ") || GoLog.MatchString(line) {
			break
		}
		b.WriteString("\n" + strings.TrimSpace(line))
	}
	return strings.TrimSpace(b.String())
}

// testify returns the message of an assertion of github.com/stretchr/testify, without the location and the test's
// name that it prints, too; empty: the lines are none. It prints rows of a label and lines of text in two columns.
func testify(lines []string) string {
	const most = 8
	var kept, added []string
	label := ""
	for _, line := range lines {
		m := testifyRow.FindStringSubmatch(line)
		if m == nil {
			break
		}
		if m[1] != "" {
			label = m[1]
		}
		switch text := strings.TrimSpace(m[2]); {
		case text == "Diff:" && len(kept) > 1: // both texts are known
			label = ""
		case text == "":
		case label == "Error" && len(kept) < most:
			kept = append(kept, text)
		case label == "Messages" && len(added) < most:
			added = append(added, text)
		}
	}
	return strings.Join(append(kept, added...), "\n")
}

var testifyRow = lazyregexp.New(`^\s*\t(?:(Error Trace|Error|Test|Messages):)?\s*\t(.*)$`)

// FirstOwn returns the first location in lines whose file belongs to the user.
func FirstOwn(f *source.Files, lines []string) location.Location {
	for _, line := range lines {
		for _, m := range anyPlace.FindAllStringSubmatch(line, 4) {
			p := placeOf(m)
			if f.Own(p.File) {
				p.File = f.Find(p.File)
				return p
			}
		}
	}
	return location.Location{}
}

// LastOwn returns the last location in lines whose file belongs to the user.
func LastOwn(f *source.Files, lines []string) location.Location {
	for _, line := range slices.Backward(lines) {
		if at := FirstOwn(f, []string{line}); at.Line > 0 {
			return at
		}
	}
	return location.Location{}
}

// LastLine returns the last line that has text.
func LastLine(lines []string) string {
	for _, line := range slices.Backward(lines) {
		if line = strings.TrimSpace(line); line != "" {
			return line
		}
	}
	return ""
}

func placeOf(m []string) location.Location {
	switch {
	case m[1] != "":
		return source.Place(m[1], m[2], m[3])
	case m[4] != "":
		return location.Location{File: m[4], Line: source.Number(m[5])}
	}
	return location.Location{File: m[6], Line: source.Number(m[7])}
}

func FirstLine(lines []string) string {
	for _, line := range lines {
		if line = strings.TrimSpace(
			line,
		); line != "" && !strings.HasPrefix(line, "===") &&
			!strings.HasPrefix(line, "---") {
			return line
		}
	}
	return ""
}

// comparisons are the forms in which the common test libraries Compare the expected with the actual value, in a
// message or below it.
var comparisons = []*lazyregexp.Regexp{
	// testify, JUnit and PHPUnit: on separate lines.
	lazyregexp.New(`(?m)^\s*expected\s*: ?(?P<want>.*)\n\s*(?:actual|got|received|but was)\s*: ?(?P<got>.*)$`),
	lazyregexp.New(`(?m)^\s*got\s*: ?(?P<got>.*)\n\s*(?:want|expected)\s*: ?(?P<want>.*)$`),
	lazyregexp.New(`(?m)^\s*left: (?P<got>.*)\n\s*right: (?P<want>.*)$`), // assert_eq! of Rust
	// In a sentence.
	lazyregexp.New(`\bexpected:? ?<(?P<want>[^\n]*)> but was:? ?<(?P<got>[^\n]*)>`), // JUnit
	lazyregexp.New(`(?i)\bgot (?P<got>[^;]+?)[,;]? (?:but )?(?:want|wanted|expected) (?P<want>[^\n]+)`),
	lazyregexp.New(
		`(?i)\b(?:want|wanted|expected) (?P<want>[^;\n]+?)[,;]? (?:but )?(?:got|was|received) (?P<got>[^\n]+)`,
	),
	lazyregexp.New(`(?i) = (?P<got>[^\n]+?)[,;] (?:want|wanted|expected) (?P<want>[^\n]+)`),
	lazyregexp.New(`(?m)^\s*(?P<got>\S.*) !== (?P<want>.*\S)\s*$`),           // assert of Node
	lazyregexp.New(`(?m)^\s*(?:E\s+)?assert (?P<got>.+?) == (?P<want>.+?)$`), // pytest
}

// Compare finds the expected and the actual value in the case's message.
func Compare(c *results.Case) {
	if c.Want != "" || c.Got != "" {
		return
	}
	for _, form := range comparisons {
		m := form.FindStringSubmatch(c.Message)
		if m != nil && m[form.SubexpIndex("want")] != "but" { // "is expected but got" compares nothing
			c.Want, c.Got = strings.TrimSpace(
				m[form.SubexpIndex("want")],
			), strings.TrimSpace(
				m[form.SubexpIndex("got")],
			)
			return
		}
	}
}

// Output is the output of a case, within limits.
type Output []string

// Add keeps a line, unless there are too many, and cuts a long one.
func (o *Output) Add(line string) {
	if len(*o) < results.MaxOutput {
		line = strings.TrimRight(line, "\r\n")
		*o = append(*o, line[:min(len(line), results.MaxKept)])
	}
}
