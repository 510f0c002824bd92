package structured

import (
	"bytes"
	"encoding/json"
	"slices"
	"strings"
)

// testActions are the actions in the output of go test -json (go doc test2json).
var testActions = []string{
	"start", "run", "pause", "cont", "pass", "bench", "fail", "output", "skip", "attr", "artifacts", "build-output",
	"build-fail",
}

var action = []byte(`"Action":"`)

// MayBeTestEvents reports whether lines may be of go test -json. It is fast.
func MayBeTestEvents(lines []byte) bool { return bytes.Contains(lines, action) }

// TestEvent returns what a line of go test -json prints for people, which is what go test -v would print. Prints is
// false for an event that prints nothing: what happened is also printed as output. Is is false for any other line.
func TestEvent(line []byte) (text string, prints, is bool) {
	if len(line) == 0 || line[0] != '{' || len(line) > longestLine || !MayBeTestEvents(line) {
		return "", false, false
	}
	var e struct {
		Action, Package, ImportPath string
		Output                      *string
	}
	if err := json.Unmarshal(line, &e); err != nil || e.Package == "" && e.ImportPath == "" ||
		!slices.Contains(testActions, e.Action) {
		return "", false, false
	}
	if e.Output == nil {
		return "", false, true
	}
	return strings.ReplaceAll(strings.TrimSuffix(*e.Output, "\n"), "\n", " "), true, true
}
