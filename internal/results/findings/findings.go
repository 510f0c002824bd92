// Package findings recognizes diagnostics in output, line by line: the forms of compilers and linters (forms.go) and
// the stack traces of runtimes (trace.go). Reader.Skip passes over output without any at little cost. A Reader is for
// one goroutine. Start reading at Reader.Read.
package findings

import (
	"regexp"
	"strings"

	"omnivigil/internal/results"
	"omnivigil/internal/results/source"
	"omnivigil/internal/text/lazyregexp"
	"omnivigil/internal/text/location"
)

// Reader reads messages with locations in files, in all known forms, line by line.
type Reader struct {
	sink    results.Sink
	files   *source.Files
	pattern *regexp.Regexp // the user's own, which replaces all others; nil: none

	header  *results.Finding // a message whose location follows in one of the next lines
	left    int              // how many of these lines are left
	heading string           // the last line that is not indented: the heading of the rows below it
	last    *results.Finding // the last one, which notes may follow
	since   int              // lines since then
	noted   bool             // it has got notes that have not been reported
	trace   trace
	memory  memory
	shapes  shapes

	held     *results.Finding // may be continued by the next line
	goesOn   func(held *results.Finding, line string) bool
	table    string            // the file that rows of a table are about
	script   location.Location // the line of a script that marks are below
	analyzer string            // the analyzer whose findings follow
	needed   []string          // the lines for which a template is instantiated, whose errors follow
}

// New returns a reader that reports to a sink. A pattern, if not nil, replaces all known forms.
func New(sink results.Sink, f *source.Files, pattern *regexp.Regexp) *Reader {
	return &Reader{sink: sink, files: f, pattern: pattern, trace: trace{files: f}}
}

// Read reads a line and returns its meaning.
func (f *Reader) Read(line string) results.Mark {
	if f.pattern != nil {
		return f.byPattern(line)
	}
	if f.held != nil {
		if f.goesOn(f.held, line) {
			return results.NoMark
		}
		f.release()
	}
	if found, goesOn := f.memory.read(line, f.files); found != nil {
		return f.report(*found)
	} else if goesOn {
		return results.NoMark
	}
	if found, goesOn := f.trace.read(line); found != nil {
		return f.report(*found)
	} else if goesOn {
		return results.NoMark
	}
	if f.header != nil {
		if mark, done := f.placeOfHeader(line); done {
			return mark
		}
	}
	if !matters([]byte(line)) {
		f.follow(line)
		return results.NoMark
	}
	if f.memory.begin(line) {
		f.tellNotes()
		return markOf(f.memory.severity)
	}
	bytes := bytesOf(line)
	for i := range forms {
		form := &forms[i]
		if !bytes.has(form.bytes) || !strings.Contains(line, form.hint) {
			continue
		}
		if mark, is := form.read(f, line); is {
			if f.header != nil && f.left == linesBelow {
				f.learn(line, headShape)
			}
			return mark
		}
	}
	if f.trace.begin(line) {
		f.tellNotes()
		return results.MarkFailure
	}
	f.learn(line, ordinary)
	f.follow(line)
	return results.NoMark
}

// busy reports whether the next line may matter whatever it is, except as the location of a header.
func (f *Reader) busy() bool {
	return f.header != nil && f.header.File != "" || f.trace.in != noTrace || f.last != nil || f.held != nil ||
		f.memory.message != "" || f.table != ""
}

// Interrupt ends what was in progress: another kind of line has come.
func (f *Reader) Interrupt() {
	f.End()
	f.heading = ""
}

func (f *Reader) End() {
	f.release()
	f.memory, f.script = memory{}, location.Location{}
	if found := f.trace.end(); found != nil {
		f.report(*found)
	}
	f.tellNotes()
	f.header, f.last = nil, nil
}

// found reports a finding, if the file exists that it names: output is full of texts that only look like locations.
func (f *Reader) found(finding results.Finding) (results.Mark, bool) {
	if finding.File != "" {
		path, exists := f.files.Existing(finding.File)
		if !exists {
			return results.NoMark, false
		}
		finding.File = path
	}
	return f.report(finding), true
}

// report reports a finding whose location is not in doubt.
func (f *Reader) report(finding results.Finding) results.Mark {
	f.tellNotes()
	finding.File = f.files.Find(finding.File)
	finding.Message = strings.TrimSpace(finding.Message)
	f.header, f.last, f.since = nil, &finding, 0
	f.sink.Found(finding)
	return markOf(finding.Severity)
}

func markOf(s results.Severity) results.Mark {
	return [...]results.Mark{results.Warning: results.MarkWarning, results.Error: results.MarkFailure}[s]
}

// tellNotes reports the last finding again, if it has got notes.
func (f *Reader) tellNotes() {
	if f.last != nil && f.noted {
		f.sink.Found(*f.last)
	}
	f.noted = false
}

// maxNotes limits the notes of a finding.
const maxNotes = 20

func (f *Reader) note(text string) {
	if f.last != nil && len(f.last.Notes) < maxNotes {
		f.last.Notes = append(f.last.Notes[:len(f.last.Notes):len(f.last.Notes)], strings.TrimSpace(text))
		f.noted = true
	}
	f.since = 0
}

// sourceLine is how tools quote source and point at it, below a message.
var sourceLine = lazyregexp.New(`^\s*\d*\s*[|│]|^\s*[~^╵·╰└]+|^\s*\.\.\.$|^\s*[│┃╎]`)

// follow reads a line that is not a finding: it may continue the one before.
func (f *Reader) follow(line string) {
	indented := line == "" || line[0] == ' ' || line[0] == '\t'
	if !indented {
		f.heading = line
	}
	if f.last == nil {
		return
	}
	if f.since++; f.since > notesWithin {
		f.tellNotes()
		f.last = nil
		return
	}
	switch label := sourceLabel.FindStringSubmatch(line); {
	case label != nil && len(f.last.Notes) == 0 && strings.HasPrefix(label[1], "help: "):
		f.note(label[1])
	case label != nil && len(f.last.Notes) == 0:
		f.note(results.Label + label[1])
	case rustNote.MatchString(line):
		f.note(rustNote.FindStringSubmatch(line)[1])
	case indented && moreOf.MatchString(line) && !sourceLine.MatchString(line):
		f.note(line)
	}
}

// notesWithin is how many lines below a finding its notes may begin, with source in between.
const notesWithin = 16

var (
	// What Rust writes behind the marks below the source.
	sourceLabel = lazyregexp.New(`^\s+\|[\s|_-]*\^+ ([^\s-].*)$`)

	rustNote = lazyregexp.New(`^\s*= ((?:note|help): .*)$`)
	// How the TypeScript compiler and javac continue: with an indented sentence, or a name and a value.
	moreOf = lazyregexp.New(`^\s+(?:[A-Z][a-z]+ .*[.']$|(?:symbol|location|required|found|reason): )`)
)

// byPattern reads a line with the user's own expression.
func (f *Reader) byPattern(line string) results.Mark {
	m := f.pattern.FindStringSubmatch(line)
	if m == nil {
		return results.NoMark
	}
	group := func(name string) string {
		if i := f.pattern.SubexpIndex(name); i >= 0 {
			return m[i]
		}
		return ""
	}
	found := results.Finding{
		Location: source.Place(group("file"), group("line"), group("column")),
		Severity: results.Error,
		Rule:     group("rule"),
		Message:  group("message"),
	}
	if word := group("severity"); word != "" {
		found.Severity = results.SeverityOf(word)
	}
	return f.report(found)
}
