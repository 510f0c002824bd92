package logbook

import (
	"regexp"
	"slices"
	"strings"

	"github.com/charmbracelet/x/ansi"
)

// Phrases of errors in the common languages and tools, and what surrounds them: the frames of a stack, which tell
// where, not what.
var (
	saysError = regexp.MustCompile(
		`(?i)\bpanic:|\bfatal\b|\w*(error|exception)\b|\bfailed\b|\bundefined\b|\bcannot\b|\bnot found\b|no such` +
			`|denied|refused|in use|segmentation`,
	)
	isFrame = regexp.MustCompile(
		`^\s+at |^\s+File "|^goroutine \d+ |^\s+\S+\.(go|js|ts|py|rb|rs|java|c|cc):\d+|^\S+\(.*\)$|^\s*\^+\s*$` +
			`|^\s*~+\s*$|^\s+from `,
	)
)

// LastWords returns the lines of a run's output that most likely tell why it ended: the last ones, selected so that
// the error is among them.
func (v *View) LastWords(unit string, run, most int) ([]Line, error) {
	lines, says, err := v.lastLines(unit, run)
	if err != nil {
		return nil, err
	}
	from := max(len(lines)-most, 0)
	if says >= 0 {
		from = min(from, max(says-1, 0))
	}
	return lines[from:min(from+most, len(lines))], nil
}

// Reason returns the line of a run's output that most likely tells why it ended: the first that reports a failure, or
// else the last with an error, or else the last one. It returns false if there is no line.
func (v *View) Reason(unit string, run int) (Line, bool) {
	lines, says, err := v.lastLines(unit, run)
	switch {
	case err != nil || len(lines) == 0:
		return Line{}, false
	case says >= 0:
		return lines[says], true
	}
	return lines[len(lines)-1], true
}

// lastLines returns the last lines of a run's output that have text, and the index of the last one with an error, or
// -1.
func (v *View) lastLines(unit string, run int) (lines []Line, says int, err error) {
	const look = 300
	ofRun := func(e *Entry) bool { return e.Unit == unit && e.Run == run && e.Stream == Output }
	if lines, err = v.Find(v.End(), true, look, ofRun, nil); err != nil {
		return nil, -1, err
	}
	lines = slices.DeleteFunc(lines, func(l Line) bool {
		text := ansi.Strip(l.Text)
		return strings.TrimSpace(text) == "" || isFrame.MatchString(text)
	})
	if says = slices.IndexFunc(lines, func(l Line) bool { return l.Tone == Broken }); says >= 0 {
		return lines, says, nil // the first one is the reason for the others
	}
	says = len(lines) - 1
	for says >= 0 && !saysError.MatchString(ansi.Strip(lines[says].Text)) {
		says--
	}
	return lines, says, nil
}
