package logbook

import (
	"fmt"
	"omnivigil/internal/visible"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
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
		{"colours stay", []string{"\x1b[31mred\x1b[0m\n"}, []string{"\x1b[31mred\x1b[0m"}},
		{"a colour goes on, and ends with each line", []string{"\x1b[31mred\nstill\x1b[0m\nnot\n"}, []string{"\x1b[31mred\x1b[0m", "\x1b[31mstill\x1b[0m", "not"}},
		{"a link ends with its line", []string{"\x1b]8;;http://x\x1b\\x\n"}, []string{"\x1b]8;;http://x\x1b\\x\x1b]8;;\x1b\\"}},
		{"a spinner", []string{"⠙\b⠹\b⠸\x1b[2K\rsrc/x.ts:3:55 - error\n"}, []string{"src/x.ts:3:55 - error"}},
		{"erased to its end", []string{"building everything\x1b[10G\x1b[Kdone\n"}, []string{"building done"}},
		{"erased from its beginning", []string{"abc\x1b[2D\x1b[1Kxy\n"}, []string{" xy"}},
		{"wide characters have two columns", []string{"潮潮\b\bab\n"}, []string{"潮ab"}},
		{"overwritten with another colour", []string{"\x1b[31mabc\r\x1b[32mx\x1b[0m\n"}, []string{"\x1b[31m\x1b[32mx\x1b[0m\x1b[31mbc\x1b[0m"}},
		{"what turns text around is seen", []string{"npm start #\u202e\n", "\u009b2J\n"}, []string{`npm start #\u202e`, `\u009b2J`}},
		{"a link with more in it", []string{"\x1b]8;;http://x\nab\n"}, []string{"", "ab"}},
		{"links stay", []string{"\x1b]8;;http://x\x1b\\x\x1b]8;;\x1b\\\n"}, []string{"\x1b]8;;http://x\x1b\\x\x1b]8;;\x1b\\"}},
		{"cursor and screen stay out", []string{"\x1b[2J\x1b[Hnew\x1b[K\x1b]0;title\x07 text\n"}, []string{"new text"}},
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

// TestPause holds that text without an end appears once, and what follows goes on.
func TestPause(t *testing.T) {
	var s Scanner
	assert.Empty(t, s.Scan([]byte("\x1b[1mmigrate? [y/N] ")))
	assert.Equal(t, []string{"\x1b[1mmigrate? [y/N] \x1b[0m"}, s.Pause(nil))
	assert.Empty(t, s.Pause(nil), "said once")
	assert.Equal(t, []string{"\x1b[1my\x1b[0m", "done"}, s.Scan([]byte("y\x1b[0m\ndone\n")))
	assert.Empty(t, s.Pause(nil))

	s.Scan([]byte("10 %"))
	assert.Equal(t, []string{"10 %"}, s.Pause(nil))
	assert.Equal(t, []string{"100 %"}, s.Scan([]byte("\r100 %\n")), "it was rewritten")

	s.Scan([]byte("the whole"))
	assert.Equal(t, []string{"the whole"}, s.Pause(nil))
	assert.Empty(t, s.Scan([]byte("\n")))

	s.Scan([]byte("password: hun"))
	assert.Empty(t, s.Pause(func(text string) bool { return strings.HasSuffix(text, "hun") }))
	assert.Equal(t, []string{"password: hun"}, s.Rest())
}

// TestLineWithoutEnd cuts what never ends into pieces, loses nothing of it, and
// cuts no secret in two.
func TestLineWithoutEnd(t *testing.T) {
	const secret = "correct-horse-battery"
	for _, read := range []int{1000, 4096, 65536} {
		for shift := range len(secret) {
			text := strings.Repeat("x", longest-shift) + secret + strings.Repeat("y", longest)
			s := Scanner{Hide: func(line string) string { return strings.ReplaceAll(line, secret, "***") }, Hold: len(secret)}
			var got []string
			for rest := []byte(text); len(rest) > 0; {
				n := min(read, len(rest))
				got = append(got, s.Scan(rest[:n])...)
				rest = rest[n:]
			}
			got = append(got, s.Rest()...)
			require.Greater(t, len(got), 1)
			require.Equal(t, strings.ReplaceAll(text, secret, "***"), strings.Join(got, ""), "reads of %d, %d before the cut", read, shift)
		}
	}
}

// FuzzScanner checks that lines hold no control characters beside colours and
// links, are valid text, and do not depend on how the bytes were cut.
func FuzzScanner(f *testing.F) {
	f.Add([]byte("one\r\n\x1b[31mtwo\x1b[0m\r55%\n"), 3)
	f.Add([]byte("\x1b]8;;http://x\x07x\n\xff\xc3\xa4"), 1)
	f.Fuzz(func(t *testing.T, data []byte, cut int) {
		var whole, parts Scanner
		want := append(whole.Scan(append([]byte(nil), data...)), whole.Rest()...)
		cut = max(0, min(cut, len(data)))
		got := parts.Scan(append([]byte(nil), data[:cut]...))
		got = append(got, parts.Scan(append([]byte(nil), data[cut:]...))...)
		got = append(got, parts.Rest()...)
		require.Equal(t, want, got)
		for _, line := range want {
			require.True(t, utf8.ValidString(line))
			require.NotContains(t, line, "\n")
			require.NotContains(t, line, "\r")
			require.Equal(t, visible.Styled(line), line, "nothing else that a terminal acts on")
		}
	})
}

func open(t *testing.T) *Book {
	t.Helper()
	b := Open(filepath.Join(t.TempDir(), "log"))
	t.Cleanup(func() { b.Close() })
	return b
}

func texts(lines []Line) []string {
	var all []string
	for _, l := range lines {
		all = append(all, l.Text)
	}
	return all
}

func TestWindows(t *testing.T) {
	b := open(t)
	now := time.Unix(1000, 0)
	b.clock = func() time.Time { return now }
	for i := range 1000 {
		now = now.Add(time.Second)
		b.Append(Entry{Unit: []string{"tides", "berths"}[i%2], Run: i, Stream: Ends, Tone: Broken}, fmt.Sprintf("line %d", i))
	}
	all, err := b.Window(All, 500, 3)
	require.NoError(t, err)
	assert.Equal(t, []string{"line 500", "line 501", "line 502"}, texts(all))
	assert.Equal(t, Line{Number: 501, At: time.Unix(1502, 0), Text: "line 501",
		Entry: Entry{Unit: "berths", Run: 501, Stream: Ends, Tone: Broken}}, all[1])

	one, err := b.Window("berths", 499, 10)
	require.NoError(t, err)
	assert.Equal(t, []string{"line 999"}, texts(one))
	assert.EqualValues(t, 500, b.Len("tides"))
	assert.Zero(t, b.Len("nobody"))

	at, err := b.Position("berths", time.Unix(1502, 0))
	require.NoError(t, err)
	assert.EqualValues(t, 250, at)

	now = time.Unix(0, 0) // the clock was set back
	b.Append(Entry{Unit: "tides"}, "late")
	last, err := b.Window(All, 1000, 1)
	require.NoError(t, err)
	assert.Equal(t, time.Unix(2000, 0), last[0].At)
}

func TestManyWritersLoseNothing(t *testing.T) {
	b := open(t)
	const writers, each = 20, 2000
	var wg sync.WaitGroup
	for w := range writers {
		wg.Add(1)
		go func() {
			defer wg.Done()
			for i := range each {
				b.Append(Entry{Unit: fmt.Sprint("unit-", w)}, fmt.Sprintf("%d %s", i, strings.Repeat("x", i%100)))
			}
		}()
	}
	wg.Wait()
	require.NoError(t, b.Err())
	assert.EqualValues(t, writers*each, b.Len(All))
	for w := range writers {
		lines, err := b.Window(fmt.Sprint("unit-", w), 0, each)
		require.NoError(t, err)
		for i, l := range lines {
			require.Equal(t, fmt.Sprintf("%d %s", i, strings.Repeat("x", i%100)), l.Text)
		}
	}
}

// TestDiskRefuses keeps lines in memory while the log cannot be written, and writes
// them when it can.
func TestDiskRefuses(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "log")
	require.NoError(t, os.WriteFile(dir, nil, 0o600)) // in the way of the folder
	b := Open(dir)
	now := time.Unix(1000, 0)
	b.clock, b.retry = func() time.Time { return now }, now
	b.Append(Entry{Unit: "tides"}, "first")
	require.ErrorContains(t, b.Err(), "the log cannot be written, output is kept in memory: not a directory")
	b.Append(Entry{Unit: "berths"}, "second")
	lines, err := b.Window(All, 0, 10)
	require.NoError(t, err)
	assert.Equal(t, []string{"first", "second"}, texts(lines))

	large := strings.Repeat("x", 1<<20)
	for range mostKept >> 20 {
		b.Append(Entry{Unit: "tides"}, large)
	}
	before := b.Len(All)
	b.Append(Entry{Unit: "tides"}, "has no room", "neither")
	assert.Equal(t, before, b.Len(All))

	require.NoError(t, os.Remove(dir))
	now = now.Add(2 * retryPause)
	b.Append(Entry{Unit: "tides"}, "there is room again")
	require.NoError(t, b.Err())
	lines, err = b.Window(All, before, 10)
	require.NoError(t, err)
	assert.Equal(t, []string{"the log can be written again; 2 lines had no room and are lost", "there is room again"}, texts(lines))
	require.NoError(t, b.Close())
	text, err := os.ReadFile(filepath.Join(dir, "lines.log"))
	require.NoError(t, err)
	assert.Equal(t, "first\nsecond\n", string(text[:13]))
}

func TestGrown(t *testing.T) {
	b := open(t)
	grown, release := b.Grown()
	b.Append(Entry{Unit: "tides"}, "a")
	b.Append(Entry{Unit: "tides"}, "b")
	<-grown
	release()
	b.Append(Entry{Unit: "tides"}, "c")
	assert.Empty(t, grown)
}
