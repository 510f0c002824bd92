package readers

import (
	"regexp"
	"strings"

	"omnivigil/internal/results"
	"omnivigil/internal/results/source"
	"omnivigil/internal/text/location"
)

// explain finds in a failed case's output why it failed: the message, the location, and if possible the expected and
// the actual value. Directories are those that file names may be relative to, in addition to the unit's.
func explain(c *results.Case, f *source.Files, folders ...string) {
	defer func() {
		if c.Status == results.Skipped {
			c.Location = location.Location{}
		}
	}()
	at := -1
	for i, line := range c.Output {
		if m := goLog.FindStringSubmatch(line); m != nil && (at < 0 || isRace(m[3])) {
			at = i
			c.Message, c.Location = m[3], location.Location{File: f.Find(m[1], folders...), Line: source.Number(m[2])}
			if c.Message = goOn(c.Message, c.Output[i+1:]); isRace(c.Message) {
				c.Location = firstOwn(f, c.Output)
			}
		}
		if m := goPanic.FindStringSubmatch(line); m != nil {
			c.Message = m[0]
			c.Location = firstOwn(f, c.Output[i:])
			compare(c)
			return
		}
	}
	if at < 0 {
		c.Message = firstLine(c.Output)
		c.Location = firstOwn(f, c.Output)
	}
	compare(c)
}

var (
	// The prefix of package testing before a test's log: its file and line.
	goLog   = regexp.MustCompile(`^\s*([\w.@-]+\.go):(\d+): ?(.*)$`)
	goPanic = regexp.MustCompile(`^\s*(?:panic|fatal error): .*`)
	// Locations in traces and messages: of Go, Node and Rust, of Python, in brackets.
	anyPlace = regexp.MustCompile(
		`(?:^|[\s("'])((?:file://)?(?:[A-Za-z]:[\\/])?[\w@.~/\\+-]*\.[A-Za-z]\w*):(\d+)(?::(\d+))?|File "([^"]+)", ` +
			`line (\d+)|(?:^|\s)at (\S+) line (\d+)`,
	)
)

func isRace(message string) bool { return strings.HasPrefix(message, "race detected") }

// goOn joins the indented lines below the first line of a message, up to a few.
func goOn(message string, rest []string) string {
	const most = 12
	var b strings.Builder
	b.WriteString(message)
	for _, line := range rest[:min(len(rest), most)] {
		if !strings.HasPrefix(line, "        ") || goLog.MatchString(line) {
			break
		}
		b.WriteString("\n" + strings.TrimSpace(line))
	}
	return strings.TrimSpace(b.String())
}

// firstOwn returns the first location in lines whose file belongs to the user.
func firstOwn(f *source.Files, lines []string) location.Location {
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

func placeOf(m []string) location.Location {
	switch {
	case m[1] != "":
		return source.Place(m[1], m[2], m[3])
	case m[4] != "":
		return location.Location{File: m[4], Line: source.Number(m[5])}
	}
	return location.Location{File: m[6], Line: source.Number(m[7])}
}

func firstLine(lines []string) string {
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

// comparisons are the forms in which the common test libraries compare the expected with the actual value, in a
// message or below it.
var comparisons = []*regexp.Regexp{
	// testify, JUnit and PHPUnit: on separate lines.
	regexp.MustCompile(`(?m)^\s*expected\s*: ?(?P<want>.*)\n\s*(?:actual|got|received|but was)\s*: ?(?P<got>.*)$`),
	regexp.MustCompile(`(?m)^\s*got\s*: ?(?P<got>.*)\n\s*(?:want|expected)\s*: ?(?P<want>.*)$`),
	regexp.MustCompile(`(?m)^\s*left: (?P<got>.*)\n\s*right: (?P<want>.*)$`), // assert_eq! of Rust
	// In a sentence.
	regexp.MustCompile(`(?i)\bgot (?P<got>[^;]+?)[,;]? (?:but )?(?:want|wanted|expected) (?P<want>[^\n]+)`),
	regexp.MustCompile(
		`(?i)\b(?:want|wanted|expected) (?P<want>[^;\n]+?)[,;]? (?:but )?(?:got|was|received) (?P<got>[^\n]+)`,
	),
	regexp.MustCompile(`(?i) = (?P<got>[^\n]+?)[,;] (?:want|wanted|expected) (?P<want>[^\n]+)`),
	regexp.MustCompile(`(?m)^\s*(?P<got>\S.*) !== (?P<want>.*\S)\s*$`),           // assert of Node
	regexp.MustCompile(`(?m)^\s*(?:E\s+)?assert (?P<got>.+?) == (?P<want>.+?)$`), // pytest
}

// compare finds the expected and the actual value in the case's message.
func compare(c *results.Case) {
	if c.Want != "" || c.Got != "" {
		return
	}
	for _, form := range comparisons {
		if m := form.FindStringSubmatch(c.Message); m != nil {
			c.Want, c.Got = strings.TrimSpace(
				m[form.SubexpIndex("want")],
			), strings.TrimSpace(
				m[form.SubexpIndex("got")],
			)
			return
		}
	}
}
