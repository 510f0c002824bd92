package logbook

import (
	"regexp"
	"slices"
	"strings"

	"github.com/charmbracelet/x/ansi"
)

// How errors are said by the common languages and tools, and what stands around them:
// the frames of a stack, which say where and not what.
var (
	saysError = regexp.MustCompile(`(?i)\bpanic:|\bfatal\b|\w*(error|exception)\b|\bfailed\b|\bundefined\b|\bcannot\b|\bnot found\b|no such|denied|refused|in use|segmentation`)
	isFrame   = regexp.MustCompile(`^\s+at |^\s+File "|^goroutine \d+ |^\s+\S+\.(go|js|ts|py|rb|rs|java|c|cc):\d+|^\S+\(.*\)$|^\s*\^+\s*$|^\s*~+\s*$|^\s+from `)
)

// LastWords returns the lines of a run's output that are most likely to say why it ended:
// the last ones, chosen so that the error is among them.
func (b *Book) LastWords(unit string, run, most int) ([]Line, error) {
	const look = 300
	lines, err := b.Window(unit, b.Len(unit)-look, look)
	if err != nil {
		return nil, err
	}
	lines = slices.DeleteFunc(lines, func(l Line) bool {
		text := ansi.Strip(l.Text)
		return l.Stream != Output || l.Run != run || strings.TrimSpace(text) == "" || isFrame.MatchString(text)
	})
	from := max(len(lines)-most, 0)
	for i := len(lines) - 1; i >= 0; i-- {
		if saysError.MatchString(ansi.Strip(lines[i].Text)) {
			from = min(from, max(i-1, 0))
			break
		}
	}
	return lines[from:min(from+most, len(lines))], nil
}
