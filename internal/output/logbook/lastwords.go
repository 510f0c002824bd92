package logbook

import (
	"slices"
	"strings"

	"omnivigil/internal/output/structured"
	"omnivigil/internal/text/escape"
	"omnivigil/internal/text/lazyregexp"
)

// Phrases of errors in the common languages and tools, and what surrounds them: the frames of a stack, which tell
// where, not what.
var (
	saysError = lazyregexp.New(
		`(?i)\bpanic:|\bfatal\b|\w*(error|exception)\b|\bfailed\b|\bundefined\b|\bcannot\b|\bnot found\b|no such` +
			`|denied|refused|in use|segmentation`,
	)
	isFrame = lazyregexp.New(
		`^\s+at |^\s+File "|^goroutine \d+ |^\s+\S+\.(go|js|ts|py|rb|rs|java|c|cc):\d+(:\d+)?\)?( \+0x[0-9a-f]+)?$` +
			`|^\S+\(.*\)$|^\s*\^+\s*$|^\s*~+\s*$|^\s+from `,
	)
)

// isTrailer matches what tools write after the reason: that they failed, how often, how long it took, where to read
// more.
var isTrailer = lazyregexp.New(`^\s*(?:` + strings.Join([]string{
	`exit status \d+`, `FAIL(?:\s.*)?`, `PASS`, `ok\s.*`, // go
	`make(?:\[\d+\])?: (?:\*\*\* .*|(?:Leaving|Entering) directory .*|Target .* not remade .*)`,
	`collect2: error: .*`, `compilation terminated\.`, `\d+ (?:errors?|warnings?)(?: generated)?\.?`,
	`error: could not compile .*`, `error: aborting due to .*`, `error: test failed, .*`, `For more information.*`,
	"note: run with `RUST_BACKTRACE.*", `warning: build failed, .*`,
	`npm (?:error|ERR!|notice|warn)\b.*`, `error Command failed .*`, `info Visit .*`, `.*ELIFECYCLE.*`, `Node\.js v\d.*`,
	`(?:Finished|Done|Completed) in .*`, `Found \d+ (?:error|warning|problem|file)s?.*`, `✖ \d+ problems? .*`,
	`Checked \d+ files? .*`, `(?:ℹ|#) (?:tests|suites|pass|fail|cancelled|skipped|todo|duration_ms) .*`,
	`duration_ms: .*`, `(?:Tests|Test Suites|Test Files|Snapshots|Time|Duration|Start at):? .*`, `Ran all test suites.*`,
	`Files=\d+, Tests=\d+, .*`, `Result: FAIL`, `\[ERROR\](?: (?:\[Help|-> \[Help|To see|Re-run|For more).*)?`,
	`BUILD FAILED.*`, `\[INFO\] .*`, `-- Configuring incomplete, errors occurred!`, `See also ".*`, `==\d+==ABORTING`,
}, "|") + `)\s*$`)

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
// else the last with an error, or else the last one. It passes over lines that only tell that something failed, and
// returns false if there is no line.
func (v *View) Reason(unit string, run int) (Line, bool) {
	lines, says, err := v.lastLines(unit, run)
	switch {
	case err != nil || len(lines) == 0:
		return Line{}, false
	case says >= 0:
		return lines[says], true
	}
	for i := range slices.Backward(lines) {
		if !isTrailer.MatchString(escape.Strip(lines[i].Text)) {
			return lines[i], true
		}
	}
	return lines[len(lines)-1], true
}

// lastLines returns the last lines of a run's output that have text, as they are printed for people, and the index of
// the last one with an error, or -1.
func (v *View) lastLines(unit string, run int) (lines []Line, says int, err error) {
	const look = 300
	ofRun := func(e *Entry) bool { return e.Unit == unit && e.Run == run && e.Stream == Output }
	if lines, err = v.Find(v.End(), true, look, ofRun, nil); err != nil {
		return nil, -1, err
	}
	for i := range lines {
		if text, _, is := structured.TestEvent([]byte(lines[i].Text)); is {
			lines[i].Text = escape.Styled(text)
		}
	}
	lines = slices.DeleteFunc(lines, func(l Line) bool {
		text := escape.Strip(l.Text)
		return strings.TrimSpace(text) == "" || isFrame.MatchString(text)
	})
	if says = slices.IndexFunc(lines, func(l Line) bool { return l.Tone == Broken }); says >= 0 {
		return lines, says, nil // the first one is the reason for the others
	}
	for says = len(lines) - 1; says >= 0; says-- {
		if text := escape.Strip(lines[says].Text); saysError.MatchString(text) && !isTrailer.MatchString(text) {
			break
		}
	}
	return lines, says, nil
}
