package escape

import (
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestText(t *testing.T) {
	for foreign, want := range map[string]string{
		"plain, tidé 潮":            "plain, tidé 潮",
		"a\x1b[2Jb":                `a\x1b[2Jb`,
		"a\nb\tc\r":                `a\nb\tc\x0d`,
		"npm start #\u202e\u2066x": `npm start #\u202e\u2066x`,
		"c1: \u009b2J":             `c1: \u009b2J`,
		"bytes: \x9b\xff":          `bytes: \x9b\xff`,
		"tag\U000e0041":            `tag\U000e0041`,
		"joined 👨‍👩‍👧":             "joined 👨‍👩‍👧",
	} {
		assert.Equal(t, want, Text(foreign))
	}
	assert.Equal(t, "a\n\tb\\x07", Lines("a\n\tb\x07"))
}

func TestStyled(t *testing.T) {
	for foreign, want := range map[string]string{
		"\x1b[31mred\x1b[0m": "\x1b[31mred\x1b[0m",
		"\x1b[1;31mopen":     "\x1b[1;31mopen\x1b[m",
		"\x1b[2Jgone":        `\x1b[2Jgone`,
		"\x1b]0;title\x07":   `\x1b]0;title\x07`,
		"\x1b]8;;http://a/\x1b\\a\x1b]8;;\x1b\\ b": "\x1b]8;;http://a/\x1b\\a\x1b]8;;\x1b\\ b",
		"\x1b]8;;http://a/\x1b\\for ever":          "\x1b]8;;http://a/\x1b\\for ever\x1b]8;;\x1b\\",
		"\x1b]8;;ssh://a/\x1b\\a":                  `\x1b]8;;ssh://a/\x1b\a`,
		"\x1b]8;;http://a/":                        `\x1b]8;;http://a/`,
		"\u009b31mred":                             `\u009b31mred`,
		"\x1b[?25l":                                `\x1b[?25l`,
	} {
		assert.Equal(t, want, Styled(foreign))
	}
}

// FuzzStrip compares with the library's own function, which interprets every byte.
func FuzzStrip(f *testing.F) {
	for _, s := range []string{"a", "\x1b[31mred\x1b[0m tide\r\n", "潮\x1b[1;38:2::1:2:3mx", "\x1b[31", "\x1b[K\x1b[m",
		"\x9b3mx", "\u009b3mx\x7f\a", "\x1b]8;;https://u\x07x\x1b[0m", "\xe6\x1b[0m\xbd\xae"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		assert.Equal(t, ansi.Strip(s), Strip(s))
		assert.Equal(t, "before"+ansi.Strip(s), string(AppendStripped([]byte("before"), []byte(s))))
	})
}

// FuzzShown checks that only colors and links that end with their line pass through.
func FuzzShown(f *testing.F) {
	for _, s := range []string{"a", "\x1b[31mx", "\x1b]8;;https://u\x07x", "\x9b\u009b", "\u202e", "\x1b",
		"\x1bP\x1b\\"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		assertNoneActs(t, Text(s), "")
		assertNoneActs(t, Lines(s), "\n\t")
		styled := Styled(s)
		assert.Equal(t, styled, Styled(styled), "it is stable")
		for {
			i := strings.IndexByte(styled, 0x1b)
			if i < 0 {
				break
			}
			assertNoneActs(t, styled[:i], "\t")
			rest := styled[i:]
			end := strings.IndexByte(rest, 'm')
			if strings.HasPrefix(rest, "\x1b]8;") {
				bel, st := strings.IndexByte(rest, 7), strings.Index(rest[1:], "\x1b\\")
				end = bel
				if st >= 0 && (bel < 0 || st < bel) {
					end = st + 2
				}
				require.True(t, IsLink([]byte(rest[:end+1])))
			} else {
				require.True(t, IsColor([]byte(rest[:end+1])))
			}
			styled = rest[end+1:]
		}
		assertNoneActs(t, styled, "\t")
	})
}

func assertNoneActs(t *testing.T, s, keep string) {
	t.Helper()
	assert.True(t, utf8.ValidString(s))
	for _, r := range s {
		assert.False(t, acts(r) && !strings.ContainsRune(keep, r), "%q in %q", r, s)
	}
}

func TestPlain(t *testing.T) {
	for c := range 256 {
		want := c >= ' ' && c < 0x7f || c == '\n' || c == '\t'
		for at := range 19 {
			text := []byte("a\tline\nof the tides")
			text[at] = byte(c)
			assert.Equal(t, want, PlainLength(text) == len(text), "%q", text)
		}
	}
}

func TestHarmless(t *testing.T) {
	for r := range rune(0xe0100) {
		if utf8.ValidRune(r) {
			text := "Flut " + string(r) + "潮"
			assert.Equal(t, !acts(r) || r == '\n' || r == '\t', Harmless([]byte(text)), "%q", text)
		}
	}
	assert.False(t, Harmless([]byte("a\xffb")))
}
