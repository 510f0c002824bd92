// Package stacktrace groups lines of output that belong together: stack traces of Go, Node, Python, Java and Ruby,
// each with the line that states the error. The source of each rule is in a comment.
package stacktrace

import (
	"strings"

	"omnivigil/internal/text/lazyregexp"
)

// Reader reads the lines of one run in order. The zero value is ready for use, at any point of the output. It is for
// one goroutine.
type Reader struct {
	in   kind
	left int // how many lines may still be the head of a trace
}

type kind int

const (
	none     kind = iota
	frames        // lines that are recognizable as frames
	inGo          // after a panic of Go's runtime (runtime/panic.go, traceback.go)
	inNode        // before an error of Node: the location and the line of source
	inPython      // a traceback (traceback.format_exception)
)

var (
	// Frames of Java (Throwable.printStackTrace), Node (V8's stack trace API) and Ruby
	// (Exception#full_message), and what continues them.
	isFrame = lazyregexp.New(
		`^\s+at \S|^\s+from \S|^\s+\.{3} \d+ (more|common frames omitted|levels?)|^Caused by: |^\s+Suppressed: ` +
			`|^\s+\[cause\]: |^\s*\^+~*\s*$`,
	)
	isCall = lazyregexp.New(`^\s+at \S`)
	// The beginning of a trace.
	beginsGo     = lazyregexp.New(`^(panic|fatal error|runtime error): |^goroutine \d+ .*\[.*\]:$|^SIG[A-Z]+: `)
	beginsNode   = lazyregexp.New(`^(file://|/|[A-Za-z]:\\|node:)\S*:\d+$`)
	beginsPython = lazyregexp.New(`^Traceback \(most recent call last\):$|^\s+\+ Exception Group Traceback`)
	// Lines of Go's runtime within a trace.
	inGoTrace = lazyregexp.New(
		`^$|^\s|^goroutine \d+ |^\[signal |^created by |^exit status \d+$|^\S+\(.*\)$|^panic: |^\.\.\.`,
	)
	// Lines between two tracebacks of Python.
	joinsPython = lazyregexp.New(
		`^(During handling of the above exception|The above exception was the direct cause)`,
	)
)

// nodeHead is the maximum number of lines that Node writes before the frames.
const nodeHead = 8

// begins has the first letters of all lines that begin a trace or are frames.
const begins = " \t^pfrgSCTn/\\ABCDEFGHIJKLMNOPQRSTUVWXYZ"

// Continues reports whether a line's visible text belongs to the same trace as the line before. A line after which a
// trace begins belongs to the trace, too: it states the error.
func (r *Reader) Continues(text string) bool {
	if r.in == none && (text == "" || strings.IndexByte(begins, text[0]) < 0) {
		return false // true for nearly all lines
	}
	switch r.in {
	case inGo:
		if inGoTrace.MatchString(text) {
			if strings.HasPrefix(text, "exit status ") {
				r.in = none
			}
			return true
		}
	case inPython:
		switch {
		case beginsPython.MatchString(text), joinsPython.MatchString(text):
			r.left = 1
			return true
		case text == "" || strings.HasPrefix(text, " "):
			return true
		case r.left > 0: // the error itself comes last
			r.left = 0
			return true
		}
	case inNode:
		if r.left--; r.left > 0 && !isCall.MatchString(text) {
			return true
		}
	}
	was := r.in
	r.in, r.left = none, 0
	switch {
	case isFrame.MatchString(text):
		r.in = frames
		return true
	case beginsGo.MatchString(text):
		r.in = inGo
	case beginsPython.MatchString(text):
		r.in, r.left = inPython, 1
	case beginsNode.MatchString(text):
		r.in, r.left = inNode, nodeHead
	case was == frames && (text == "}" || strings.HasPrefix(text, "  ")): // an error's own fields, and its end
		r.in = frames
		return true
	}
	return false
}

// Blocks returns, for the lines of one run in order, the index of the first line of each trace or single line; the
// last number is the number of lines.
func Blocks(texts []string) []int {
	var r Reader
	var starts []int
	for i, text := range texts {
		if !r.Continues(text) || i == 0 {
			starts = append(starts, i)
		}
	}
	return append(starts, len(texts))
}
