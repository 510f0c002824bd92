// Package locate finds what a line of output refers to: locations in files, in the forms of common compilers, linters
// and runtimes, and web addresses. It also builds the command that opens a location in an editor.
package locate

import (
	"bytes"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"omnivigil/internal/text/escape"
	"omnivigil/internal/text/lazyregexp"
	"omnivigil/internal/text/location"
)

// spellings are the forms of locations. Each has the file, the line, and perhaps the column.
var spellings = []*lazyregexp.Regexp{
	// Python's traceback, and its form in sentences: File "berths.py", line 8
	lazyregexp.New(`(?i)file "([^"]+)", line (\d+)(?:, col(?:umn)? (\d+))?`),
	// The Rust and Elm compilers: --> src/main.rs:8:5
	lazyregexp.New(`--+> ?([^\s:]+(?::\\[^\s:]+)?):(\d+)(?::(\d+))?`),
	// TypeScript and MSBuild: src/app.ts(8,5)
	lazyregexp.New(`((?:[A-Za-z]:)?[\w@./\\+ -]*[\w@/\\+-]\.\w+)\((\d+)(?:[,:] ?(\d+))?\)`),
	// In quotes or brackets, where there may be spaces: "a b.go":8, (/a b/app.js:8:5)
	lazyregexp.New(`["'(<\[]((?:file://)?(?:[A-Za-z]:)?[^"'()<>\[\]:]+\.\w+)["']?:(\d+)(?::(\d+))?`),
	// Nearly all others: main.go:8:5, file:///ferries/app.js:8:5, ./Makefile:8
	lazyregexp.New(`((?:file://)?(?:[A-Za-z]:[\\/])?[\w@.~/\\+-]*[\w@~/\\+-]):(\d+)(?::(\d+))?`),
	// In words: berths.rb line 8, at line 8 of berths.rb is not known.
	lazyregexp.New(`([\w@.~/\\+-]+\.\w+)[,:]? line (\d+)(?:[,:]? col(?:umn)? (\d+))?`),
}

// In returns the locations in a line's visible text whose files exist. Relative paths are resolved in the
// directories, in the first that has the file. It reads the file system.
func In(text string, folders ...string) []location.Location {
	var found []location.Location
	for _, s := range spellings {
		for _, m := range s.FindAllStringSubmatch(text, 20) {
			file := fileOf(m[1], folders)
			if file == "" {
				continue
			}
			p := location.Location{File: file, Line: number(m[2]), Column: number(m[3])}
			if !has(found, p) {
				found = append(found, p)
			}
		}
	}
	return found
}

func has(found []location.Location, p location.Location) bool {
	for _, f := range found {
		if f.File == p.File && f.Line == p.Line {
			return true
		}
	}
	return false
}

func number(text string) int {
	n, _ := strconv.Atoi(text)
	return n
}

// fileOf returns the file of a name; empty: there is none.
func fileOf(name string, folders []string) string {
	if strings.HasPrefix(name, "file://") {
		u, err := url.Parse(name)
		if err != nil {
			return ""
		}
		name = u.Path
	}
	if filepath.IsAbs(name) {
		folders = []string{""}
	}
	for _, folder := range folders {
		path := filepath.Join(folder, name)
		if info, err := os.Stat(path); err == nil && info.Mode().IsRegular() {
			return path
		}
	}
	return ""
}

var isAddress = lazyregexp.New(`\bhttps?://[^\s"'<>\x60()]+[^\s"'<>\x60().,;:!?]`)

// Links returns the web addresses of a line's hyperlinks (OSC 8), which its text need not show.
func Links(text string) []string {
	var found []string
	for rest := []byte(text); ; {
		at := bytes.IndexByte(rest, ansi.ESC)
		if at < 0 {
			return found
		}
		seq, _, n, _ := ansi.DecodeSequence(rest[at:], ansi.NormalState, nil)
		if address := escape.LinkAddress(seq); escape.IsLink(seq) && strings.HasPrefix(address, "http") {
			found = append(found, address)
		}
		rest = rest[at+max(n, 1):]
	}
}

// Addresses returns the web addresses in a line's visible text.
func Addresses(text string) []string { return isAddress.FindAllString(text, -1) }
