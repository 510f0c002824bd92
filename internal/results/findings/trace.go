package findings

import (
	"strings"

	"omnivigil/internal/results"
	"omnivigil/internal/results/source"
	"omnivigil/internal/text/lazyregexp"
	"omnivigil/internal/text/location"
)

// trace reads what runtimes write when a program fails: the error, and the calls that led to it. The finding is at
// the innermost call in a file of the user.
type trace struct {
	files   *source.Files
	in      traceKind
	message string
	rule    string
	place   location.Location // of the innermost call so far in a file of the user
	other   location.Location // of the innermost call in any file
	errors  []string          // recent lines, one of which may be the error
	head    location.Location // the location that Node writes before an error
	age     int               // lines since then
	told    bool
}

type traceKind int

const (
	noTrace traceKind = iota
	goTrace
	pythonTrace
	callTrace // Node and Java
	rustTrace
)

var (
	goBegins  = lazyregexp.New(`^(?:panic|fatal error): (.*?)(?: \[recovered.*\])?$`)
	goFrame   = lazyregexp.New(`^\t(\S+\.go):(\d+)(?: \+0x|$)`)
	pyBegins  = lazyregexp.New(`^Traceback \(most recent call last\):$`)
	pyFrame   = lazyregexp.New(`^\s+File "([^"]+)", line (\d+)`)
	pyError   = lazyregexp.New(`^([A-Za-z_][\w.]*)(?:: (.*))?$`)
	callFrame = lazyregexp.New(
		`^\s+at .*?\(?((?:file://)?[^\s():]*(?:[A-Za-z]:\\[^\s():]*)?\.\w+):(\d+)(?::(\d+))?\)?$`,
	)
	anyFrame   = lazyregexp.New(`^\s+at \S`)
	nodeHead   = lazyregexp.New(`^((?:file://)?(?:/|[A-Za-z]:[\\/])[^:]*\.[A-Za-z][\w+-]*):(\d+)$`)
	namesError = lazyregexp.New(
		`^(?:Uncaught )?(?:Exception in thread "[^"]*" )?(?:Caused by: )?([\w.$]*(?:Error|Exception))(?: ` +
			`\[\w+\])?(?:: (.*))?$`,
	)
	rustBegins = lazyregexp.New(`^thread '.*' (?:\(\d+\) )?panicked at (?:'(.*)', )?([^ :]+):(\d+):(\d+):?$`)
)

// longestTrace limits the lines of a trace.
const longestTrace = 400

// isQuiet reports whether the last line has no part in a trace that may follow.
func (t *trace) isQuiet() bool {
	return t.in == noTrace && len(t.errors) == 0 && (t.head.Line == 0 || t.age > 0)
}

// begin starts a trace if a line is the beginning of one.
func (t *trace) begin(line string) bool {
	switch line[0] {
	case 'p', 'f', 'T', ' ', '\t', 't': // the others begin with none of these
	default:
		return false
	}
	switch {
	case goBegins.MatchString(line):
		t.start(goTrace)
		t.message = line
	case pyBegins.MatchString(line):
		t.start(pythonTrace)
	case pyFrame.MatchString(line):
		t.start(pythonTrace)
		t.frame(pyFrame.FindStringSubmatch(line))
	case rustBegins.MatchString(line):
		m := rustBegins.FindStringSubmatch(line)
		t.start(rustTrace)
		t.place, t.message = source.Place(m[2], m[3], m[4]), m[1]
	default:
		return false
	}
	return true
}

func (t *trace) start(in traceKind) {
	t.in, t.message, t.rule, t.place, t.other, t.told, t.age = in, "", "", location.Location{}, location.Location{},
		false, 0
}

// read continues a trace. It returns the finding when it is known, and whether the line belongs to a trace.
func (t *trace) read(line string) (*results.Finding, bool) {
	t.age++
	switch t.in {
	case noTrace:
		return t.lookOut(line)
	case goTrace:
		if m := goFrame.FindStringSubmatch(line); m != nil {
			if t.frame(append(m, "")); t.place.Line > 0 {
				return t.finish(), true
			}
		}
		if strings.HasPrefix(line, "exit status ") || t.age > longestTrace {
			return t.finish(), true
		}
		return nil, true
	case rustTrace:
		if t.message == "" && line != "" {
			t.message = line
		}
		return t.finish(), true
	case pythonTrace:
		return t.python(line)
	}
	return t.call(line)
}

// lookOut records the error that comes before the calls, in Node and Java.
func (t *trace) lookOut(line string) (*results.Finding, bool) {
	const maxLines = 10
	if line == "" {
		return nil, false
	}
	switch line[0] {
	case ' ', '\t':
		if len(t.errors) > 0 && anyFrame.MatchString(line) {
			t.start(callTrace)
			m := namesError.FindStringSubmatch(t.errors[0])
			t.rule, t.message = m[1], strings.TrimPrefix(strings.TrimPrefix(t.errors[0], "Uncaught "), "Caused by: ")
			t.errors = nil
			return t.call(line)
		}
	default:
		if isDigit(line[len(line)-1]) {
			if m := nodeHead.FindStringSubmatch(line); m != nil {
				t.head, t.age = location.Location{File: m[1], Line: source.Number(m[2])}, 0
			}
		}
		if (strings.Contains(line, "Error") || strings.Contains(line, "Exception")) && namesError.MatchString(line) {
			t.errors = append(t.errors[:0], line)
			return nil, false
		}
	}
	if len(t.errors) > 0 { // a message may have several lines
		if t.errors = append(t.errors, line); len(t.errors) > maxLines {
			t.errors = nil
		}
	}
	return nil, false
}

// call reads a frame of Node or Java.
func (t *trace) call(line string) (*results.Finding, bool) {
	if m := callFrame.FindStringSubmatch(line); m != nil {
		t.frame(m)
		if t.place.Line > 0 && !t.told {
			t.told = true
			return t.finding(), true
		}
		return nil, true
	}
	if anyFrame.MatchString(line) || strings.HasPrefix(line, "\t... ") || strings.HasPrefix(line, "Caused by: ") {
		return nil, true
	}
	if t.told {
		t.in = noTrace
		return nil, false
	}
	found := t.finish()
	if found == nil {
		return nil, false
	}
	return found, true
}

func (t *trace) python(line string) (*results.Finding, bool) {
	switch m := pyFrame.FindStringSubmatch(line); {
	case m != nil:
		t.frame(append(m, "")) // the innermost call is the last one
		return nil, true
	case line == "" || line[0] == ' ' || line[0] == '\t':
		return nil, t.age < longestTrace
	}
	if m := pyError.FindStringSubmatch(line); m != nil {
		t.rule, t.message = m[1], line
		return t.finish(), true
	}
	t.in = noTrace
	return nil, false
}

// frame records a call.
func (t *trace) frame(m []string) {
	p := location.Location{File: m[1], Line: source.Number(m[2])}
	if len(m) > 3 {
		p.Column = source.Number(m[3])
	}
	switch {
	case t.files.Own(p.File):
		t.place = p
	case (t.other.Line == 0 || t.in == pythonTrace) && !strings.HasPrefix(p.File, "node:"):
		t.other = p
	}
}

// finding returns the finding of the trace; nil: it names no file.
func (t *trace) finding() *results.Finding {
	const nodeLines = 12 // the maximum between the location and the calls
	p := t.place
	if p.Line == 0 && t.in == callTrace && t.head.Line > 0 && t.age <= nodeLines {
		p = t.head
	}
	if p.Line == 0 {
		p = t.other
	}
	if p.Line == 0 {
		return nil
	}
	return &results.Finding{Location: p, Severity: results.Error, Rule: t.rule, Message: t.message, Trace: true}
}

// finish ends the trace.
func (t *trace) finish() *results.Finding {
	found := t.finding()
	t.in, t.head = noTrace, location.Location{}
	return found
}

// end ends what is in progress when the output ends.
func (t *trace) end() *results.Finding {
	if t.in == noTrace || t.told {
		t.in = noTrace
		return nil
	}
	return t.finish()
}
