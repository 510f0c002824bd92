package logbook

import (
	"bytes"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/text/escape"
	"omnivigil/internal/text/pen"
)

func TestScanner(t *testing.T) {
	for _, test := range []struct {
		name   string
		writes []string
		lines  []string
	}{
		{"plain", []string{"one\ntwo\n"}, []string{"one", "two"}},
		{"split anywhere", []string{"o", "ne\r", "\ntw", "o"}, []string{"one", "two"}},
		{"a rewritten line counts once", []string{"10 %\r55 %\r100 %\n"}, []string{"100 %"}},
		{"colors stay", []string{"\x1b[31mred\x1b[0m\n"}, []string{"\x1b[31mred\x1b[0m"}},
		{"a color continues, and ends with each line", []string{"\x1b[31mred\nstill\x1b[0m\nnot\n"},
			[]string{"\x1b[31mred\x1b[0m", "\x1b[31mstill\x1b[0m", "not"}},
		{"a link ends with its line", []string{"\x1b]8;;http://x\x1b\\x\n"},
			[]string{"\x1b]8;;http://x\x1b\\x\x1b]8;;\x1b\\"}},
		{"a spinner", []string{"⠙\b⠹\b⠸\x1b[2K\rsrc/x.ts:3:55 - error\n"}, []string{"src/x.ts:3:55 - error"}},
		{"erased to its end", []string{"building everything\x1b[10G\x1b[Kdone\n"}, []string{"building done"}},
		{"erased from its beginning", []string{"abc\x1b[2D\x1b[1Kxy\n"}, []string{" xy"}},
		{"wide characters have two columns", []string{"潮潮\b\bab\n"}, []string{"潮ab"}},
		{"overwritten with another color", []string{"\x1b[31mabc\r\x1b[32mx\x1b[0m\n"},
			[]string{"\x1b[32mx\x1b[0;31mbc\x1b[0m"}},
		{"a color ends by its own end", []string{"\x1b[1;31mred\x1b[39m bold\x1b[22m\nplain\n"},
			[]string{"\x1b[1;31mred\x1b[0;1m bold\x1b[0m", "plain"}},
		{"other weights and papers end, too", []string{"\x1b[3;4;7;9;42mx\x1b[23;24;27;29;49m y\n"},
			[]string{"\x1b[3;4;7;9;42mx\x1b[0m y"}},
		{
			"all notations of a color",
			[]string{"\x1b[38;5;9ma\x1b[91mb\x1b[38;2;1;2;3mc\x1b[38:2::1:2:3md\x1b[48;5;200;1me\n"},
			[]string{"\x1b[91mab\x1b[0;38;2;1;2;3mcd\x1b[0;1;38;2;1;2;3;48;5;200me\x1b[0m"},
		},
		{"underlines", []string{"\x1b[4:3ma\x1b[4:0mb\x1b[58:5:9;4mc\n"},
			[]string{"\x1b[4ma\x1b[0mb\x1b[4;58;5;9mc\x1b[0m"}},
		{"nothing is concealed or blinks", []string{"\x1b[8mseen\x1b[5m!\n"}, []string{"seen!"}},
		{"tabs go to their stops", []string{"ab\tc\rxyz\n", "\tx\b\b\by\n", "a\tb\x1b[5G-\n"},
			[]string{"xyz     c", "      y x", "a   -   b"}},
		{"signs that are joined", []string{"e\u0301\bx\n", "潮\u0301a\n"}, []string{"x", "潮\u0301a"}},
		{"what turns text around is seen", []string{"npm start #\u202e\n", "\u009b2J\n"},
			[]string{`npm start #\u202e`, `\u009b2J`}},
		{"a link with more in it", []string{"\x1b]8;;http://x\nab\n"}, []string{"", "ab"}},
		{"links stay", []string{"\x1b]8;;http://x\x1b\\x\x1b]8;;\x1b\\\n"},
			[]string{"\x1b]8;;http://x\x1b\\x\x1b]8;;\x1b\\"}},
		{"cursor and screen stay out", []string{"\x1b[2J\x1b[Hnew\x1b[K\x1b]0;title\x07 text\n"}, []string{"new text"}},
		{"the next line is another one", []string{"\x1b[1A\x1b[2K\x1b[0Ghigh\x1b[1Elow\r\n"}, []string{"high", "low"}},
		{"a sequence split over reads", []string{"\x1b[3", "1mred\n"}, []string{"\x1b[31mred\x1b[0m"}},
		{"broken text is marked", []string{"a\xffb\n"}, []string{"a\uFFFDb"}},
		{"a character split over reads", []string{"\xc3", "\xa4\n"}, []string{"ä"}},
		{"empty lines count", []string{"\n\n"}, []string{"", ""}},
	} {
		t.Run(test.name, func(t *testing.T) {
			var s Scanner
			var got []string
			for _, w := range test.writes {
				got = append(got, s.Scan([]byte(w))...)
			}
			assert.Equal(t, test.lines, append(got, s.Rest()...))
		})
	}
}

// TestPause checks that text without a line end appears once, and that later text is appended to it.
func TestPause(t *testing.T) {
	var s Scanner
	assert.Empty(t, s.Scan([]byte("\x1b[1mmigrate? [y/N] ")))
	assert.Equal(t, []string{"\x1b[1mmigrate? [y/N] \x1b[0m"}, s.Pause(nil))
	assert.Empty(t, s.Pause(nil), "said once")
	assert.False(t, s.Continues())
	assert.Equal(t, []string{"\x1b[1my\x1b[0m", "done"}, s.Scan([]byte("y\x1b[0m\ndone\n")))
	assert.True(t, s.Continues())
	assert.Empty(t, s.Pause(nil))

	s.Scan([]byte("10 %"))
	assert.Equal(t, []string{"10 %"}, s.Pause(nil))
	assert.Equal(t, []string{"100 %"}, s.Scan([]byte("\r100 %\n")), "it was rewritten")
	assert.False(t, s.Continues())

	s.Scan([]byte("the whole"))
	assert.Equal(t, []string{"the whole"}, s.Pause(nil))
	assert.Empty(t, s.Scan([]byte("\n")))

	s.Scan([]byte("password: hun"))
	assert.Empty(t, s.Pause(func(text string) bool { return strings.HasSuffix(text, "hun") }))
	assert.Equal(t, []string{"password: hun"}, s.Rest())
}

// TestLineWithoutEnd checks that an endless line is split into pieces without losing text or cutting a secret in two.
func TestLineWithoutEnd(t *testing.T) {
	const secret = "correct-horse-battery"
	for _, read := range []int{1000, 4096, 65536} {
		for shift := range len(secret) {
			text := strings.Repeat("x", longest-shift) + secret + strings.Repeat("y", longest)
			s := Scanner{
				Hide:    func(line string) string { return strings.ReplaceAll(line, secret, "***") },
				Hold:    len(secret),
				MayHide: func(p []byte) bool { return bytes.Contains(p, []byte(secret)) },
			}
			var got []string
			for rest := []byte(text); len(rest) > 0; {
				n := min(read, len(rest))
				got = append(got, s.Scan(rest[:n])...)
				rest = rest[n:]
			}
			got = append(got, s.Rest()...)
			require.Greater(t, len(got), 1)
			require.Equal(
				t,
				strings.ReplaceAll(text, secret, "***"),
				strings.Join(got, ""),
				"reads of %d, %d before the cut",
				read,
				shift,
			)
		}
	}
}

// FuzzScanner checks that lines contain no control characters apart from colors and links, are valid text, and do not
// depend on how the bytes were split.
func FuzzScanner(f *testing.F) {
	f.Add([]byte("one\r\n\x1b[31mtwo\x1b[0m\r55%\n"), 3)
	f.Add([]byte("\x1b]8;;http://x\x07x\n\xff\xc3\xa4"), 1)
	f.Add([]byte("\x1b[1mhigh\x1b[00m\n"), 4)
	f.Add([]byte("\x1b[1A\x1b[2Khigh\x1b[1Elow\nebb"), 9)
	f.Fuzz(func(t *testing.T, data []byte, cut int) {
		var whole, parts Scanner
		want := append(whole.Scan(append([]byte(nil), data...)), whole.Rest()...)
		cut = max(0, min(cut, len(data)))
		got := slices.Clone(parts.Scan(append([]byte(nil), data[:cut]...)))
		got = append(got, parts.Scan(append([]byte(nil), data[cut:]...))...)
		got = append(got, parts.Rest()...)
		require.Equal(t, want, got)
		var blocks Scanner
		got = nil
		for _, part := range [][]byte{data[:cut], data[cut:]} {
			lines, block, bare := blocks.ScanBlock(part)
			got = append(got, lines...)
			require.Equal(t, escape.Strip(string(bytes.ReplaceAll(block, []byte("\r"), nil))),
				string(bytes.ReplaceAll(bare, []byte("\r"), nil)))
			for line := range bytes.Lines(block) {
				line = bytes.TrimRight(line, "\r\n")
				// It may end its colors in other words.
				ended := strings.TrimSuffix(escape.Styled(string(line)), "\x1b[m")
				require.Equal(t, ended, string(bytes.TrimSuffix(line, []byte("\x1b[m"))), "nothing else that acts")
				e := editor{} // it may select colors in other words
				e.write(line)
				got = append(got, e.String())
			}
		}
		require.Equal(t, want, append(got, blocks.Rest()...))
		for line := range bytes.SplitSeq(data, []byte("\n")) {
			for _, p := range []pen.Pen{{}, {Weight: pen.Bold, Ink: pen.OfPalette | 1}} {
				text, after, ok := colored(line, p)
				if e := (editor{pen: p}); ok {
					e.write(line)
					require.Equal(t, e.String(), text)
					require.Equal(t, e.pen, after)
				}
			}
		}
		for _, line := range want {
			require.True(t, utf8.ValidString(line))
			require.NotContains(t, line, "\n")
			require.NotContains(t, line, "\r")
			require.Equal(t, escape.Styled(line), line, "nothing else that a terminal acts on")
		}
	})
}
