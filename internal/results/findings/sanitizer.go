package findings

import (
	"strings"

	"omnivigil/internal/results"
	"omnivigil/internal/results/source"
	"omnivigil/internal/text/lazyregexp"
)

// memory reads the reports of the sanitizers of GCC and Clang, and of Valgrind: a message, then calls, innermost
// first. The finding is at the innermost call in a file of the user.
type memory struct {
	message  string
	rule     string
	severity results.Severity
	assumed  bool
	lines    int // read since the message
}

var (
	asanBegins  = lazyregexp.New(`^==\d+==ERROR: (\w+Sanitizer): (.*)$`)
	leakBegins  = lazyregexp.New(`^((?:Direct|Indirect) leak of .*) allocated from:$`)
	tsanBegins  = lazyregexp.New(`^WARNING: (ThreadSanitizer): (.*?)(?: \(pid=\d+\))?$`)
	frameOf     = lazyregexp.New(`^ +#\d+ (?:0x[0-9a-f]+ in )?\S.* ([^\s:]+):(\d+)(?::(\d+))?(?: \(.*\))?$`)
	anyNumbered = lazyregexp.New(`^ +#\d+ `)
	grindLine   = lazyregexp.New(`^==\d+== (.*)$`)
	grindFrame  = lazyregexp.New(`^   (?:at|by) 0x[0-9A-F]+: .*?(?:\(([^\s:()]+):(\d+)\))?$`)
	// What follows are numbers and addresses that differ from run to run.
	varies = lazyregexp.New(`(?: on (?:unknown )?address | in loss record ).*$`)
)

// longestReport limits how far below its message a call may be.
const longestReport = 40

// begin starts a report if a line is the beginning of one.
func (m *memory) begin(line string) bool {
	if c := line[0]; c != '=' && c != 'D' && c != 'I' && c != 'W' {
		return false
	}
	if a := asanBegins.FindStringSubmatch(line); a != nil {
		*m = memory{message: a[2], rule: a[1], severity: results.Error}
	} else if a := leakBegins.FindStringSubmatch(line); a != nil {
		*m = memory{message: a[1], rule: "LeakSanitizer", severity: results.Error}
	} else if a := tsanBegins.FindStringSubmatch(line); a != nil {
		*m = memory{message: a[2], rule: a[1], severity: results.Warning}
	} else if a := grindLine.FindStringSubmatch(line); a != nil && isMessage(a[1]) {
		*m = memory{message: a[1], rule: "Valgrind", severity: results.Error, assumed: true}
	} else {
		return false
	}
	m.message = varies.ReplaceAllString(m.message, "")
	return true
}

// isMessage reports whether a line of Valgrind is a message: it is not indented.
func isMessage(text string) bool {
	return text != "" && text[0] != ' ' && !strings.HasSuffix(text, "SUMMARY:")
}

// read continues a report. It returns the finding at its first call in a file of the user, and whether the line
// belongs to the report.
func (m *memory) read(line string, files *source.Files) (*results.Finding, bool) {
	if m.message == "" {
		return nil, false
	}
	m.lines++
	var place []string
	isCall := false
	if g := grindLine.FindStringSubmatch(line); g != nil {
		if isMessage(g[1]) {
			return nil, false
		}
		place = grindFrame.FindStringSubmatch(g[1])
		isCall = place != nil
	} else if isCall = anyNumbered.MatchString(line); isCall {
		place = frameOf.FindStringSubmatch(line)
	}
	if len(place) > 2 && place[1] != "" && files.Own(place[1]) {
		found := &results.Finding{Severity: m.severity, Assumed: m.assumed, Rule: m.rule, Message: m.message, Trace: true}
		found.Location = source.Place(place[1], place[2], strings.Join(place[3:], ""))
		*m = memory{}
		return found, true
	}
	if m.lines > longestReport || !isCall && m.lines > 3 {
		*m = memory{}
	}
	return nil, isCall
}
