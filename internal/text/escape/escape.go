// Package escape makes text of others safe to show on a terminal: names, paths, commands, output. Characters that a
// terminal would act on, and those that make text look like other text, are written as escapes: "\x1b", "\u202e".
// Everything that Omnivigil shows passes through it. Its functions may be called from any goroutine.
package escape

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math/bits"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/charmbracelet/x/ansi"
)

// Text returns one line of text of others. Line ends and tabs are escaped, too.
func Text(s string) string { return show(s, "") }

// Lines returns text of others that may have several lines and tabs.
func Lines(s string) string { return show(s, "\n\t") }

func show(s, keep string) string {
	if isHarmless(s, keep) {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); {
		r, n := utf8.DecodeRuneInString(s[i:])
		b.WriteString(one(s[i:i+n], r, keep))
		i += n
	}
	return b.String()
}

// one returns a character as it may be shown. Text is its bytes.
func one(text string, r rune, keep string) string {
	switch {
	case r == utf8.RuneError && len(text) == 1:
		return fmt.Sprintf(`\x%02x`, text[0])
	case strings.ContainsRune(keep, r) || !acts(r):
		return text
	case r == '\n':
		return `\n`
	case r == '\t':
		return `\t`
	case r < 0x80:
		return fmt.Sprintf(`\x%02x`, r)
	case r > 0xffff:
		return fmt.Sprintf(`\U%08x`, r)
	}
	return fmt.Sprintf(`\u%04x`, r)
}

// acts reports whether a character acts on a terminal or on the text around it: the control characters (C0 and C1,
// ECMA-48), those that change the direction of writing (Unicode Standard Annex 9, section 2), those without a width
// that can hide in names, and tags.
func acts(r rune) bool {
	switch {
	case r < 0x20, r >= 0x7f && r <= 0x9f:
		return true
	case r < 0x061c:
		return false
	}
	switch r {
	case 0x061c, 0x200b, 0x200e, 0x200f, 0x2028, 0x2029, 0x2060, 0xfeff:
		return true
	}
	return r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069 || r >= 0xe0000 && r <= 0xe007f
}

// isHarmless reports whether nothing in the text has to be escaped.
func isHarmless(s, keep string) bool {
	for i := 0; i < len(s); i++ {
		if c := s[i]; c < 0x20 || c >= 0x7f {
			return isHarmlessWide(s[i:], keep)
		}
	}
	return true
}

func isHarmlessWide(s, keep string) bool {
	for i, r := range s {
		if r == utf8.RuneError {
			if _, n := utf8.DecodeRuneInString(s[i:]); n == 1 {
				return false
			}
		}
		if acts(r) && !strings.ContainsRune(keep, r) {
			return false
		}
	}
	return true
}

// Harmless reports whether a text is valid, nothing in it has to be escaped, and nothing is a color. It is fast.
func Harmless(text []byte) bool {
	for {
		text = text[PlainLength(text):]
		for len(text) > 0 && text[0] >= utf8.RuneSelf {
			r, n := utf8.DecodeRune(text)
			if r == utf8.RuneError && n == 1 || acts(r) {
				return false
			}
			text = text[n:]
		}
		switch {
		case len(text) == 0:
			return true
		case text[0] < ' ' && text[0] != '\n' && text[0] != '\t', text[0] == 0x7f:
			return false
		}
	}
}

// PlainLength returns the length of the beginning of a text that is only printable ASCII, tabs and line ends, so that
// nothing in it has to be escaped, and nothing is a color. It is fast.
func PlainLength(text []byte) int {
	const (
		each = 0x0101010101010101
		high = 0x8080808080808080
	)
	n := 0
	for ; len(text)-n >= 8; n += 8 {
		w := binary.LittleEndian.Uint64(text[n:])
		low := w &^ high
		// The highest bit of a byte is set if it is beyond ASCII, below a space, or DEL.
		odd := (w | (low + (0x7f-0x7e)*each) | ^(low + (0x80-0x20)*each)) & high
		if odd == 0 {
			continue
		}
		// The highest bit is set if it is neither a line end nor a tab.
		if odd &= (low ^ '\n'*each + 0x7f*each | w) & (low ^ '\t'*each + 0x7f*each | w); odd != 0 {
			return n + bits.TrailingZeros64(odd)/8
		}
	}
	for ; n < len(text); n++ {
		if c := text[n]; c < 0x20 && c != '\n' && c != '\t' || c >= 0x7f {
			break
		}
	}
	return n
}

// Strip returns text without the escape sequences in it. Other control characters stay.
func Strip(s string) string {
	if strings.IndexByte(s, 0x1b) < 0 && utf8.ValidString(s) {
		return s
	}
	return string(AppendStripped(nil, []byte(s)))
}

// AppendStripped appends to dst what Strip returns of a text. It is fast if the sequences are only colors.
func AppendStripped(dst, text []byte) []byte {
	begin := len(dst)
	dst = slices.Grow(dst, len(text))
	for rest := text; len(rest) > 0; {
		n := PlainLength(rest)
		dst = append(dst, rest[:n]...)
		if rest = rest[n:]; len(rest) == 0 {
			break
		}
		if rest[0] != 0x1b {
			end := bytes.IndexByte(rest, 0x1b)
			if end < 0 {
				end = len(rest)
			}
			if !utf8.Valid(rest[:end]) { // a control character of 8 bits may begin a sequence
				return append(dst[:begin], ansi.Strip(string(text))...)
			}
			dst = append(dst, rest[:end]...)
			rest = rest[end:]
			continue
		}
		if n = ColorLength(rest); n == 0 {
			return append(dst[:begin], ansi.Strip(string(text))...)
		}
		rest = rest[n:]
	}
	return dst
}

// Styled returns one line of text that may have colors (SGR, ECMA-48) and complete links (OSC 8). All other sequences
// and characters that act are escaped; colors and links that are still open at the end are closed.
func Styled(s string) string {
	if isHarmless(s, "\t") {
		return s
	}
	var b strings.Builder
	colored, linked := false, false
	for rest := []byte(s); len(rest) > 0; {
		seq := rest
		if rest[0] == 0x1b {
			_, _, n, _ := ansi.DecodeSequence(rest, 0, nil)
			seq = rest[:max(n, 1)]
			switch {
			case IsColor(seq):
				colored = !IsReset(seq)
				b.Write(seq)
			case IsLink(seq):
				linked = !EndsLink(seq)
				b.Write(seq)
			default:
				seq = rest[:1]
				b.WriteString(`\x1b`)
			}
		} else {
			r, n := utf8.DecodeRune(rest)
			seq = rest[:n]
			b.WriteString(one(string(seq), r, "\t"))
		}
		rest = rest[len(seq):]
	}
	if linked {
		b.WriteString("\x1b]8;;\x1b\\")
	}
	if colored {
		b.WriteString("\x1b[m")
	}
	return b.String()
}

// IsColor reports whether a sequence selects colors or weight (SGR, ECMA-48).
func IsColor(seq []byte) bool { return len(seq) > 0 && ColorLength(seq) == len(seq) }

// ColorLength returns the length of the sequence at the beginning of a text if it selects colors or weight, otherwise
// 0.
func ColorLength(text []byte) int {
	if len(text) < 3 || text[0] != 0x1b || text[1] != '[' {
		return 0
	}
	for i, c := range text[2:] {
		switch {
		case c == 'm':
			return i + 3
		case c < '0' || c > ';':
			return 0
		}
	}
	return 0
}

// IsReset reports whether a sequence ends all colors.
func IsReset(seq []byte) bool { return string(seq) == "\x1b[m" || string(seq) == "\x1b[0m" }

// IsLink reports whether a sequence is a complete hyperlink (OSC 8) with only text in it, to a web page or a file:
// anything else that a terminal would open may act.
func IsLink(seq []byte) bool {
	body, ok := linkBody(seq)
	if !ok || !isHarmless(string(body), "") {
		return false
	}
	address := LinkAddress(seq)
	return address == "" || hasScheme(address, "http://") || hasScheme(address, "https://") ||
		hasScheme(address, "file:")
}

func hasScheme(address, scheme string) bool {
	return len(address) > len(scheme) && strings.EqualFold(address[:len(scheme)], scheme)
}

// LinkAddress is the address of a hyperlink; empty: the sequence ends one.
func LinkAddress(seq []byte) string {
	body, _ := linkBody(seq)
	_, address, _ := bytes.Cut(body, []byte(";"))
	return string(address)
}

// EndsLink reports whether a sequence for which IsLink is true ends a link.
func EndsLink(seq []byte) bool {
	return LinkAddress(seq) == ""
}

func linkBody(seq []byte) ([]byte, bool) {
	body, ok := bytes.CutPrefix(seq, []byte("\x1b]8;"))
	if !ok {
		return nil, false
	}
	if short, ok := bytes.CutSuffix(body, []byte("\x07")); ok {
		return short, true
	}
	return bytes.CutSuffix(body, []byte("\x1b\\"))
}
