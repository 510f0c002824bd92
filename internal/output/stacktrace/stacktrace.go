// Package stacktrace says which lines of output belong together: stack traces of Go, Node, Python, Java and Ruby,
// each with the line that states the error. The source of each rule is in a comment.
package stacktrace

import (
	"regexp"
	"strings"
)

// Reader reads the lines of one run in their order. The zero value is ready for use, at any
// place in the output. It is for one goroutine.
type Reader struct {
	in   kind
	left int // how many lines may still belong to the head of a trace
}

type kind int

const (
	none     kind = iota
	frames        // lines that are frames by themselves
	inGo          // what Go's runtime writes after a panic (runtime/panic.go, traceback.go)
	inNode        // what Node writes before an error: the place and the line of source
	inPython      // a traceback (traceback.format_exception)
)

var (
	// Frames of Java (Throwable.printStackTrace), Node (V8's stack trace API) and Ruby
	// (Exception#full_message), and what continues them.
	isFrame = regexp.MustCompile(
		`^\s+at \S|^\s+from \S|^\s+\.{3} \d+ (more|common frames omitted|levels?)|^Caused by: |^\s+Suppressed: ` +
			`|^\s+\[cause\]: |^\s*\^+~*\s*$`,
	)
	isCall = regexp.MustCompile(`^\s+at \S`)
	// How a trace begins.
	beginsGo     = regexp.MustCompile(`^(panic|fatal error|runtime error): |^goroutine \d+ .*\[.*\]:$|^SIG[A-Z]+: `)
	beginsNode   = regexp.MustCompile(`^(file://|/|[A-Za-z]:\\|node:)\S*:\d+$`)
	beginsPython = regexp.MustCompile(`^Traceback \(most recent call last\):$|^\s+\+ Exception Group Traceback`)
	// What Go's runtime writes within one.
	inGoTrace = regexp.MustCompile(
		`^$|^\s|^goroutine \d+ |^\[signal |^created by |^exit status \d+$|^\S+\(.*\)$|^panic: |^\.\.\.`,
	)
	// What joins two tracebacks of Python.
	joinsPython = regexp.MustCompile(
		`^(During handling of the above exception|The above exception was the direct cause)`,
	)
)

// nodeHead is how many lines Node writes at most before the frames.
const nodeHead = 8

// begins has the first letters of all lines that begin a trace or are frames.
const begins = " \t^pfrgSCTn/\\ABCDEFGHIJKLMNOPQRSTUVWXYZ"

// Continues reports whether a line's visible text belongs to the same trace as the line before.
// The line after which a trace turns out to begin belongs to it, too: it says what went wrong.
func (r *Reader) Continues(text string) bool {
	if r.in == none && (text == "" || strings.IndexByte(begins, text[0]) < 0) {
		return false // as nearly all lines
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

// Blocks returns, for the lines of one run in their order, where each trace or line of its own
// begins; the last number is how many lines there are.
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
