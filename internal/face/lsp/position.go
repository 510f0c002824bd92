package lsp

import (
	"strings"
	"unicode"
	"unicode/utf16"

	"go.lsp.dev/protocol"

	"omnivigil/internal/files"
	"omnivigil/internal/text/location"
)

// sources are the lines of files, by path, as they are saved.
type sources map[string][]string

func (s sources) line(file string, number int) string {
	lines, is := s[file]
	if !is {
		data, err := files.Read(file, files.Sane)
		if err == nil {
			lines = strings.Split(string(data), "\n")
		}
		s[file] = lines
	}
	if number < 1 || number > len(lines) {
		return ""
	}
	return strings.TrimRight(lines[number-1], "\r")
}

// rangeOf is the range of a location: the word there, or the whole line if no column is known. Columns count
// characters, positions of the protocol the units of UTF-16.
func (s sources) rangeOf(l location.Location) protocol.Range {
	line := []rune(s.line(l.File, l.Line))
	from, to := 0, len(line)
	if l.Column > 0 {
		from = min(l.Column-1, len(line))
		for to = from; to < len(line) && isWord(line[to]); to++ {
		}
		if to == from {
			to = min(from+1, len(line))
		}
	} else {
		for from < to && unicode.IsSpace(line[from]) {
			from++
		}
	}
	at := func(n int) protocol.Position {
		return protocol.Position{Line: uint32(max(l.Line-1, 0)), Character: uint32(len(utf16.Encode(line[:n])))}
	}
	return protocol.Range{Start: at(from), End: at(to)}
}

func isWord(r rune) bool { return r == '_' || r == '$' || unicode.IsLetter(r) || unicode.IsDigit(r) }
