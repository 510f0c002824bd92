package readers

import (
	"regexp"
	"strings"

	"omnivigil/internal/results"
	"omnivigil/internal/results/source"
	"omnivigil/internal/text/location"
)

// explain finds in what a failed case has written why it failed: the message, the place, and
// where they stand apart what was expected and what was there. Folders are those that names of
// files may be from, in addition to the unit's.
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
	// What package testing writes before what a test logs: its file and line.
	goLog   = regexp.MustCompile(`^\s*([\w.@-]+\.go):(\d+): ?(.*)$`)
	goPanic = regexp.MustCompile(`^\s*(?:panic|fatal error): .*`)
	// Places in traces and messages: of Go, Node and Rust, of Python, in brackets.
	anyPlace = regexp.MustCompile(
		`(?:^|[\s("'])((?:file://)?(?:[A-Za-z]:[\\/])?[\w@.~/\\+-]*\.[A-Za-z]\w*):(\d+)(?::(\d+))?|File "([^"]+)", ` +
			`line (\d+)|(?:^|\s)at (\S+) line (\d+)`,
	)
)

func isRace(message string) bool { return strings.HasPrefix(message, "race detected") }

// goOn joins what is indented below the first line of a message, up to a few lines.
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

// firstOwn returns the first place in lines whose file is the user's own.
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

// comparisons are how the common test libraries set what was expected against what was there,
// each in a message or below it.
var comparisons = []*regexp.Regexp{
	// testify, JUnit's and PHPUnit's: on lines of their own.
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

// compare finds what was expected and what was there in the case's message.
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
