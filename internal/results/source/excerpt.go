package source

import (
	"bytes"
	"io"
	"os"
	"strings"
	"unicode/utf8"
)

// Limits of an excerpt.
const (
	largestExcerpt = 4 << 20 // bytes of a file
	longestExcerpt = 400     // bytes of a line; the rest is cut off
)

// Around returns the line of a file with a number, counted from 1, and up to around lines before and after it; first
// is the number of the first one. It returns nothing if the file has no such line, is not a regular file of text, or
// is very large. It reads the file.
func Around(path string, line, around int) (first int, lines []string) {
	info, err := os.Stat(path) // a named pipe would block
	if err != nil || !info.Mode().IsRegular() || info.Size() > largestExcerpt || line < 1 {
		return 0, nil
	}
	f, err := os.Open(path)
	if err != nil {
		return 0, nil
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, largestExcerpt))
	if err != nil || bytes.IndexByte(text, 0) >= 0 {
		return 0, nil
	}
	all := strings.Split(strings.TrimSuffix(string(text), "\n"), "\n")
	if line > len(all) {
		return 0, nil
	}
	first = max(line-around, 1)
	for _, one := range all[first-1 : min(line+around, len(all))] {
		lines = append(lines, cutLine(strings.TrimSuffix(one, "\r")))
	}
	return first, lines
}

// cutLine returns a line of bounded length and of valid text.
func cutLine(line string) string {
	if len(line) > longestExcerpt {
		at := longestExcerpt
		for at > 0 && !utf8.RuneStart(line[at]) {
			at--
		}
		line = line[:at] + "…"
	}
	return strings.ToValidUTF8(line, "\uFFFD")
}
