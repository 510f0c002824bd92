// Package findings recognizes diagnostics in output, line by line: the forms of compilers and linters (forms.go) and
// the stack traces of runtimes (trace.go). MayMatter tells cheaply whether a block of output can hold any. A Reader
// is for one goroutine. Start reading at Reader.Read.
package findings

import (
	"bytes"
	"regexp"
	"slices"
	"strings"

	"omnivigil/internal/results"
	"omnivigil/internal/results/source"
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
	if found, goesOn := f.trace.read(line); found != nil {
		return f.found(*found)
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
	for _, form := range forms {
		if mark, is := form(f, line); is {
			return mark
		}
	}
	if f.trace.begin(line) {
		f.tellNotes()
		return results.MarkFailure
	}
	f.follow(line)
	return results.NoMark
}

// busy reports whether the next line may matter in any case.
func (f *Reader) busy() bool { return f.header != nil || f.trace.in != noTrace || f.last != nil }

func (f *Reader) MayMatter(block []byte) bool {
	if f.pattern != nil || f.busy() {
		return true
	}
	return matters(block)
}

// Skip passes over lines that do not matter, except the last one, which may be the heading of rows below.
func (f *Reader) Skip(block []byte) {
	block = bytes.TrimRight(block, "\r\n")
	if line := block[bytes.LastIndexByte(block, '\n')+1:]; len(line) > 0 && line[0] != ' ' && line[0] != '\t' &&
		len(line) < results.LongestLine {
		f.heading = string(line)
	}
}

// Interrupt ends what was in progress: another kind of line has come.
func (f *Reader) Interrupt() {
	f.End()
	f.heading = ""
}

func (f *Reader) End() {
	if found := f.trace.end(); found != nil {
		f.found(*found)
	}
	f.tellNotes()
	f.header, f.last = nil, nil
}

func (f *Reader) found(finding results.Finding) results.Mark {
	f.tellNotes()
	finding.File = f.files.Find(finding.File)
	finding.Message = strings.TrimSpace(finding.Message)
	f.header, f.last, f.since = nil, &finding, 0
	f.sink.Found(finding)
	switch finding.Severity {
	case results.Error:
		return results.MarkFailure
	case results.Warning:
		return results.MarkWarning
	}
	return results.NoMark
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
}

// sourceLine is how tools quote source and point at it, below a message.
var sourceLine = regexp.MustCompile(`^\s*\d*\s*[|│]|^\s*[~^╵·╰└]+|^\s*\.\.\.$|^\s*[│┃╎]`)

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
	switch {
	case rustNote.MatchString(line):
		f.note(rustNote.FindStringSubmatch(line)[1])
	case indented && moreOf.MatchString(line) && !sourceLine.MatchString(line):
		f.note(line)
	}
}

// notesWithin is how many lines below a finding its notes may begin, with source in between.
const notesWithin = 16

var (
	rustNote = regexp.MustCompile(`^\s*= ((?:note|help): .*)$`)
	// How the TypeScript compiler and javac continue: with an indented sentence, or a name and a value.
	moreOf = regexp.MustCompile(`^\s+(?:[A-Z][a-z]+ .*[.']$|(?:symbol|location|required|found|reason): )`)
)

// matters reports whether some of these lines may be, or begin, a finding. It is fast, and returns true in doubt:
// nearly all lines of processes are none, and are not read further.
func matters(lines []byte) bool {
	for at := 0; ; at++ {
		i := bytes.IndexByte(lines[at:], ':')
		if i < 0 {
			break
		}
		if at += i; colonMatters(lines, at) {
			return true
		}
	}
	if bytes.Contains(lines, []byte(" line ")) { // the form of Perl, PHP and Python
		return true
	}
	for {
		if beginningMatters(lines) {
			return true
		}
		end := bytes.IndexByte(lines, '\n')
		if end < 0 {
			return false
		}
		lines = lines[end+1:]
	}
}

// colonMatters reports whether a colon may be that of a location, after its file, or the one before a message.
func colonMatters(text []byte, at int) bool {
	if at == 0 {
		return false
	}
	before, after := text[at-1], byte('\n')
	if at+1 < len(text) {
		after = text[at+1]
	}
	switch {
	case isDigit(after), after == '[':
		return isLetter(before) || before == '_'
	case after == ' ' || after == '\n' || after == '\r':
		return before == ')' || bytes.HasSuffix(text[:at], []byte("Error")) ||
			bytes.HasSuffix(text[:at], []byte("Exception"))
	}
	return false
}

// beginnings are beginnings of lines that matter whatever follows.
var beginnings = [][]byte{
	[]byte(
		"error",
	),
	[]byte("warning"),
	[]byte("ERROR"),
	[]byte("WARNING"),
	[]byte("Error:"),
	[]byte("panic: "),
	[]byte("fatal error: "),
	[]byte("SyntaxError"),
	[]byte("Traceback"),
	[]byte("thread '"),
	[]byte("[!]"),
	[]byte("(!)"),
	[]byte("✘ ["),
	[]byte("▲ ["),
	[]byte("make"),
}

// indentedBeginnings are those with spaces before them.
var indentedBeginnings = [][]byte{[]byte("--> "), []byte(`File "`), []byte("at "), []byte("╭─[")}

// beginningMatters reports whether a line matters by its beginning.
func beginningMatters(line []byte) bool {
	if len(line) < 3 {
		return false
	}
	switch line[0] {
	case ' ', '\t':
		return indentedPlace(line)
	case '[':
		return line[1] == '!' || codeInBrackets(line)
	case 'e', 'w', 'E', 'W', 'p', 'f', 'S', 'T', 't', 'm', '(', 0xe2:
		return hasOneOf(line, beginnings)
	}
	return false
}

func hasOneOf(line []byte, beginnings [][]byte) bool {
	return slices.ContainsFunc(beginnings, func(b []byte) bool { return bytes.HasPrefix(line, b) })
}

// codeInBrackets reports whether a line begins with uppercase words joined by "_" in brackets, the form of bundlers
// for a kind of problem.
func codeInBrackets(line []byte) bool {
	joined := false
	for _, c := range line[1:] {
		switch {
		case c == '_':
			joined = true
		case c == ']':
			return joined
		case c < 'A' || c > 'Z':
			return false
		}
	}
	return false
}

// indentedPlace reports whether a line begins with spaces and a line and column, as rows below a file's name do, or
// with one of the symbols before a location.
func indentedPlace(line []byte) bool {
	line = bytes.TrimLeft(line, " \t")
	digits := 0
	for digits < len(line) && isDigit(line[digits]) {
		digits++
	}
	if digits == 0 {
		return hasOneOf(line, indentedBeginnings)
	}
	return digits+1 < len(line) && line[digits] == ':' && isDigit(line[digits+1])
}

func isDigit(c byte) bool { return c >= '0' && c <= '9' }

func isLetter(c byte) bool { return c|0x20 >= 'a' && c|0x20 <= 'z' }

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
	return f.found(found)
}
