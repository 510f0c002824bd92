package terminal

import (
	"strconv"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"omnivigil/internal/api"
	"omnivigil/internal/text/escape"
)

// Draw returns a row of a screen as text of so many columns, styled with sequences if styled is set. Nothing else in
// it acts on a terminal, whatever its source.
func Draw(line api.ScreenLine, cols int, styled bool) string {
	var b strings.Builder
	left := cols
	for _, part := range line.Parts {
		if left <= 0 || part.Width <= 0 {
			continue
		}
		text, width := part.Text, part.Width
		if !isPlain(text, width) && (escape.Text(text) != text || ansi.StringWidth(text) != width) {
			text = strings.Repeat("?", min(width, left)) // not printable
		}
		if width > left {
			text = ansi.Truncate(text, left, "")
			width = left
			text += strings.Repeat(" ", width-ansi.StringWidth(text))
		}
		left -= width
		if look := sgr(part.Style); styled && look != "" {
			text = look + text + ansi.ResetStyle
		}
		b.WriteString(text)
	}
	if !styled {
		return strings.TrimRight(b.String(), " ")
	}
	return b.String() + strings.Repeat(" ", max(left, 0))
}

// isPlain reports whether a text has so many printable ASCII characters, as most have.
func isPlain(text string, width int) bool {
	for i := range len(text) {
		if text[i] < ' ' || text[i] > '~' {
			return false
		}
	}
	return len(text) == width
}

// sgr selects a style; empty: the terminal's default.
func sgr(s api.Style) string {
	var style ansi.Style
	for _, one := range []struct {
		on  bool
		add func() ansi.Style
	}{
		{s.Bold, func() ansi.Style { return style.Bold() }}, {s.Faint, func() ansi.Style { return style.Faint() }},
		{s.Italic, func() ansi.Style { return style.Italic(true) }},
		{s.Underline, func() ansi.Style { return style.Underline(true) }},
		{s.Blink, func() ansi.Style { return style.Blink(true) }},
		{s.Reverse, func() ansi.Style { return style.Reverse(true) }},
		{s.Struck, func() ansi.Style { return style.Strikethrough(true) }},
	} {
		if one.on {
			style = one.add()
		}
	}
	if c := colorOf(s.Foreground); c != nil {
		style = style.ForegroundColor(c)
	}
	if c := colorOf(s.Background); c != nil {
		style = style.BackgroundColor(c)
	}
	if len(style) == 0 {
		return ""
	}
	return style.String()
}

// colorOf is the color of a name, or nil.
func colorOf(name string) ansi.Color {
	if hex, ok := strings.CutPrefix(name, "#"); ok {
		if n, err := strconv.ParseUint(hex, 16, 24); err == nil {
			return ansi.RGBColor{R: uint8(n >> 16), G: uint8(n >> 8), B: uint8(n)}
		}
		return nil
	}
	n, err := strconv.ParseUint(name, 10, 8)
	switch {
	case err != nil:
		return nil
	case n < 16:
		return ansi.BasicColor(n)
	}
	return ansi.IndexedColor(n)
}
