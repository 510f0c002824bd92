package terminal

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/api"
)

// fed is a terminal with the result of the bytes written to it.
type fed struct {
	*Terminal
	lines   string
	drew    string
	answers chan string
}

func open(t testing.TB, cols, rows int) *fed {
	f := &fed{answers: make(chan string, 100)}
	f.Terminal = New(api.Size{Cols: cols, Rows: rows}, func(p []byte) { f.answers <- string(p) })
	t.Cleanup(f.Close)
	return f
}

func (f *fed) write(text string) {
	f.Write([]byte(text), func(p []byte) { f.lines += string(p) }, func(begins bool) {
		f.drew += map[bool]string{true: "begins ", false: "ends "}[begins]
	})
}

// text returns the visible text, row by row.
func (f *fed) text() string {
	_, end := f.Look()
	defer end()
	var rows []string
	for _, line := range f.Picture(nil).Lines {
		rows = append(rows, Draw(line, f.Size().Cols, false))
	}
	return strings.TrimRight(strings.Join(rows, "\n"), "\n")
}

// TestLinesAndDrawing distinguishes output from drawing, however the bytes are split.
func TestLinesAndDrawing(t *testing.T) {
	for name, test := range map[string]struct{ written, lines, drew string }{
		"lines": {"one\r\n\x1b[31mtwo\x1b[m\r\n", "one\r\n\x1b[31mtwo\x1b[m\r\n", ""},
		"a screen of its own": {"a\r\n\x1b[?1049hdrawn\x1b[5;5Hhere\x1b[?1049lb\r\n", "a\r\n\x1b[?1049hb\r\n",
			"begins ends "},
		"older ways to one": {"a\x1b[?47hx\x1b[?47l\x1b[?1047hx\x1b[?1047lb", "a\x1b[?47h\x1b[?1047hb",
			"begins ends begins ends "},
		"several modes at once": {"\x1b[?25;1049hx\x1b[?25;1049ly", "\x1b[?25;1049hy", "begins ends "},
		"begun with a clear": {"\x1b[2J\x1b[Hpass 1\r\n\x1b[H\x1b[2Jpass 2\r\n\x1b[H\x1b[Jpass 3\r\n",
			"\x1b[2J\x1b[Hpass 1\r\n\x1b[H\x1b[2Jpass 2\r\n\x1b[H\x1b[Jpass 3\r\n", ""},
		"a table drawn over": {"\x1b[?1h\x1b[?25l\x1b[H\x1b[2J\x1b[mtop\r\n\x1b[Htop 2\r\n" +
			"\x1b[?25h\x1b[H\x1b[2Jits help\x1b[?1lbye\r\n", "\x1b[?1h\x1b[?25l\x1b[H\x1b[2J\x1b[mbye\r\n",
			"begins ends "},
		"in place":                 {"a\r\n\x1b[3;1Hb\x1b[4;1Hc", "a\r\n\x1b[3;1H", "begins "},
		"a bar at the bottom":      {"a\r\n\x1b7\x1b[24;1Hbar\x1b8b\r\n", "a\r\n\x1b7\x1b[24;1Hbar\x1b8b\r\n", ""},
		"a prompt with completion": {"sql> sel\x1b[Kect\x1b[3D\x1b[1P", "sql> sel\x1b[Kect\x1b[3D\x1b[1P", ""},
		"reset":                    {"\x1b[?1049hx\x1bcy", "\x1b[?1049hy", "begins ends "},
		"a title":                  {"\x1b]0;\x1b[?1049h\x07a", "\x1b]0;\x1b[?1049h", "begins "},
	} {
		t.Run(name, func(t *testing.T) {
			whole := open(t, 80, 24)
			whole.write(test.written)
			assert.Equal(t, test.lines, whole.lines)
			assert.Equal(t, test.drew, whole.drew)
			cut := open(t, 80, 24)
			for i := range len(test.written) {
				cut.write(test.written[i : i+1])
			}
			assert.Equal(t, test.drew, cut.drew)
			// The bytes before the last one of a sequence that begins or ends drawing may count as either.
			strip := func(s string) string {
				return strings.NewReplacer(
					"\x1b[?25;1049",
					"",
					"\x1b[?1049",
					"",
					"\x1b[?1047",
					"",
					"\x1b[?47",
					"",
					"h",
					"",
					"l",
					"",
					"\x1bc",
					"",
					"\x1b",
					"",
				).Replace(s)
			}
			assert.Equal(t, strip(test.lines), strip(cut.lines))
		})
	}
}

// TestLateLook checks that the picture does not depend on when a face began to look.
func TestLateLook(t *testing.T) {
	var long strings.Builder
	for i := range 8_500 {
		fmt.Fprintf(&long, "\x1b[3%dmline %d\x1b[m\r\n", i%8, i)
	}
	for name, written := range map[string]string{
		"lines":          "one\r\ntwo",
		"much":           long.String() + "> ",
		"much and modes": "\x1b[?2004h\x1b[?25l" + long.String() + "> ",
		"an editor":      "\x1b[?1049h\x1b[1;1Hfirst" + strings.Repeat("\x1b[5;1Hagain", 13_000),
		"after one":      "before\r\n\x1b[?1049h\x1b[3;3Hdrawn\x1b[?1049lafter",
	} {
		t.Run(name, func(t *testing.T) {
			early, late := open(t, 80, 24), open(t, 80, 24)
			_, end := early.Look()
			defer end()
			for rest := []byte(written); len(rest) > 0; {
				n := min(len(rest), 7_777)
				early.write(string(rest[:n]))
				late.write(string(rest[:n]))
				rest = rest[n:]
			}
			_, endLate := late.Look()
			defer endLate()
			one, other := early.Picture(nil), late.Picture(nil)
			assert.Equal(t, one.Lines, other.Lines)
			assert.Equal(t, one.Cursor, other.Cursor)
			in := api.Input{Text: "x", Paste: true}
			pasted, _ := early.Bytes(in)
			pastedLate, _ := late.Bytes(in)
			assert.Equal(t, pasted, pastedLate)
		})
	}
}

// TestNobodyLooks checks that an emulator exists only as long as it is needed.
func TestNobodyLooks(t *testing.T) {
	f := open(t, 80, 24)
	f.write("one\r\n")
	assert.Nil(t, f.screen)
	_, end := f.Look()
	end()
	require.NotNil(t, f.screen)
	much := strings.Repeat(strings.Repeat("x", 79)+"\r", 3*kept/80)
	f.write(much)
	assert.Nil(t, f.screen, "what is kept shows the same")
	f.write("\x1b[?1049h")
	require.NotNil(t, f.screen)
	f.write(much)
	require.NotNil(t, f.screen, "what it draws builds on what it drew")
	assert.LessOrEqual(t, cap(f.tail.ring), 2*kept)
}

// TestTail adds pieces of many sizes, and compares what is kept with all that was added.
func TestTail(t *testing.T) {
	for _, sizes := range [][]int{{}, {10, 20}, {kept}, {kept - 1, 1, 1}, {10, kept + 3, 7}, {5, 3 * kept},
		{kept / 3, kept / 2, kept / 2, kept / 2}} {
		var got tail
		var all []byte
		for i, size := range sizes {
			p := bytes.Repeat([]byte{byte('a' + i)}, size)
			got.add(p)
			all = append(all, p...)
			want := all[max(len(all)-kept, 0):]
			assert.True(t, bytes.Equal(want, got.last(kept)), "%v", sizes)
			assert.True(t, bytes.Equal(want[max(len(want)-9, 0):], got.last(9)), "%v", sizes)
			assert.Equal(t, len(all) > kept, got.trimmed, "%v", sizes)
		}
	}
}

// TestClosed checks that a closed terminal does no more work, however many faces look.
func TestClosed(t *testing.T) {
	f := open(t, 80, 24)
	f.write("\x1b[?1049hdrawn")
	f.Close()
	_, end := f.Look()
	defer end()
	f.write("again\x1b[6n")
	assert.Nil(t, f.screen)
	assert.Empty(t, f.Picture(nil).Lines)
}

// TestAnswers answers the current questions of a program to its terminal, and not those of long ago.
func TestAnswers(t *testing.T) {
	f := open(t, 80, 24)
	f.write("ab\x1b[6n")
	select {
	case answer := <-f.answers:
		assert.Equal(t, "\x1b[1;3R", answer)
	case <-time.After(time.Minute):
		t.Fatal("no answer")
	}
	f.write("\x1b[c")
	select {
	case answer := <-f.answers:
		assert.Regexp(t, `^\x1b\[\?[\d;]+c$`, answer)
	case <-time.After(time.Minute):
		t.Fatal("no answer")
	}
	f.screen = nil
	_, end := f.Look() // the questions are asked again
	end()
	f.write("\x1b[5n")
	select {
	case answer := <-f.answers:
		assert.Equal(t, "\x1b[0n", answer, "only the newest question")
	case <-time.After(time.Minute):
		t.Fatal("no answer")
	}
}

// TestSecretsInCells masks secrets, including one that is cut by the edge of the screen.
func TestSecretsInCells(t *testing.T) {
	f := open(t, 10, 3)
	f.write("key: swordfish!")
	_, end := f.Look()
	defer end()
	p := f.Picture(func(text string) [][2]int {
		at := strings.Index(text, "swordfish")
		return [][2]int{{at, at + 9}}
	})
	var rows []string
	for _, line := range p.Lines {
		rows = append(rows, Draw(line, 10, false))
	}
	assert.Equal(t, []string{"key: *****", "****!", ""}, rows)
}

// TestPicture checks the attributes of cells.
func TestPicture(t *testing.T) {
	f := open(t, 20, 4)
	f.write(
		"\x1b[1;31ma\x1b[m \x1b[48;5;200mb\x1b[38;2;1;2;3mc\x1b[m 渡し e\u0301\x1b]0;\u202etimetable\x07\r\n" +
			"\x1b[4;9mx\x1b[m\x1b[5 q\x1b[?25l",
	)
	_, end := f.Look()
	defer end()
	p := f.Picture(nil)
	assert.Equal(t, []api.Cells{
		{Text: "a", Width: 1, Style: api.Style{Foreground: "1", Bold: true}},
		{Text: " ", Width: 1},
		{
			Text:  "b",
			Width: 1,
			Style: api.Style{Background: "200"},
		},
		{Text: "c", Width: 1, Style: api.Style{Background: "200", Foreground: "#010203"}},
		{Text: " 渡し e\u0301", Width: 7},
	}, p.Lines[0].Parts)
	assert.Equal(t, api.Style{Underline: true, Struck: true}, p.Lines[1].Parts[0].Style)
	assert.Equal(t, api.Cursor{Col: 1, Row: 1, Hidden: true, Shape: "bar"}, p.Cursor)
	assert.Equal(
		t,
		"a bc 渡し e\u0301      ",
		strings.ReplaceAll(
			strings.NewReplacer(
				"\x1b[1;31m",
				"",
				"\x1b[m",
				"",
				"\x1b[48;5;200m",
				"",
				"\x1b[38;2;1;2;3;48;5;200m",
				"",
			).Replace(Draw(p.Lines[0], 17, true)),
			"\x1b[0m",
			"",
		),
	)
	foreign := api.ScreenLine{
		Parts: []api.Cells{
			{Text: "\x1b[2J", Width: 3},
			{Text: "ab", Width: 1},
			{Text: "渡し船", Width: 6, Style: api.Style{Foreground: "bad"}},
		},
	}
	assert.Equal(t, "????渡 ", Draw(foreign, 7, true))
}

// TestResize keeps the line being typed.
func TestResize(t *testing.T) {
	f := open(t, 20, 10)
	_, end := f.Look()
	defer end()
	f.write(strings.Repeat("line\r\n", 9) + "> ")
	f.Resize(api.Size{Cols: 30, Rows: 4})
	assert.Equal(t, "line\nline\nline\n>", f.text())
	assert.Equal(t, 3, f.Picture(nil).Cursor.Row)
}

// TestKeysAndMouse encodes keys and mouse events as programs expect them in the modes they have set.
func TestKeysAndMouse(t *testing.T) {
	const all = "\x1b[?1h\x1b[?2004h\x1b[?1002h\x1b[?1006h\x1b[?1004h"
	left := func(does string) *api.Mouse { return &api.Mouse{Does: does, Button: "left", Col: 4, Row: 2} }
	for _, test := range []struct {
		modes string
		in    api.Input
		want  string
	}{
		{"", api.Input{Text: "yes\n", Keys: []string{"enter", "ctrl+c", "esc", "ä"}}, "yes\r\r\x03\x1bä"},
		{"", api.Input{Keys: []string{"up", "home", "f1", "f5", "f12", "pgup", "delete"}},
			"\x1b[A\x1b[H\x1bOP\x1b[15~\x1b[24~\x1b[5~\x1b[3~"},
		{all, api.Input{Keys: []string{"up", "end", "shift+up", "ctrl+shift+right", "alt+f5"}},
			"\x1bOA\x1bOF\x1b[1;2A\x1b[1;6C\x1b[15;3~"},
		{"", api.Input{Keys: []string{"shift+tab", "alt+x", "ctrl+space", "ctrl+]", "alt+backspace", "space", "+",
			"ctrl++", "shift+a"}}, "\x1b[Z\x1bx\x00\x1d\x1b\x7f ++A"},
		{"", api.Input{Text: "a\nb", Paste: true}, "a\rb"},
		{all, api.Input{Text: "a\nb\x1b[201~\x1b[2\x1b[201~01~rm", Paste: true}, "\x1b[200~a\rbrm\x1b[201~"},
		{"", api.Input{Mouse: left("press"), Focus: "in"}, ""},
		{all, api.Input{Mouse: left("press"), Focus: "out"}, "\x1b[<0;5;3M\x1b[O"},
		{all, api.Input{Mouse: left("release")}, "\x1b[<0;5;3m"},
		{all, api.Input{Mouse: left("move")}, "\x1b[<32;5;3M"},
		{all, api.Input{Mouse: &api.Mouse{Does: "move", Col: 4, Row: 2}}, ""},
		{"\x1b[?1003h\x1b[?1006h", api.Input{Mouse: &api.Mouse{Does: "move", Col: 4, Row: 2}}, "\x1b[<35;5;3M"},
		{"\x1b[?1000h", api.Input{Mouse: left("press")}, "\x1b[M %#"},
		{"\x1b[?1000h", api.Input{Mouse: left("release")}, "\x1b[M#%#"},
		{"\x1b[?1000h", api.Input{Mouse: &api.Mouse{Does: "press", Button: "wheel-down", Col: 150, Row: 0, Ctrl: true}},
			"\x1b[Mq\xb7!"},
	} {
		f := open(t, 80, 24)
		f.write(test.modes)
		got, err := f.Bytes(test.in)
		require.NoError(t, err)
		assert.Equal(t, test.want, string(got), "%+v", test.in)
	}
	f := open(t, 80, 24)
	for _, in := range []api.Input{
		{Keys: []string{"entr"}}, {Keys: []string{""}}, {Focus: "up"}, {Mouse: &api.Mouse{Does: "jump"}},
		{Mouse: &api.Mouse{Does: "press", Button: "tail"}},
		{Mouse: &api.Mouse{Does: "press", Col: -1}},
	} {
		_, err := f.Bytes(in)
		assert.Error(t, err, "%+v", in)
	}
}

// TestSettled waits for the end of an update that a program wants to be shown at once.
func TestSettled(t *testing.T) {
	f := open(t, 80, 24)
	f.write("\x1b[?2026ha")
	assert.False(t, f.Settled())
	f.write("b\x1b[?2026l")
	assert.True(t, f.Settled())
}

// FuzzTerminal accepts any bytes in any pieces and returns cells that fit.
func FuzzTerminal(f *testing.F) {
	f.Add([]byte("\x1b[?1049h\x1b[5;5Hdrawn\x1b[2J\x1b[r\x1b[1;3r\x1bM\x1b[?1049l"), uint8(3), uint8(9))
	f.Add(
		[]byte("渡し\x1b[100@\x1b[100P\x1b[100L\x1b[100M\x1b[100X\x1b[5b\x1b#8\x1b[?6h\x1b[9999;9999H\xff\xfe"),
		uint8(1),
		uint8(1),
	)
	f.Add([]byte("\x1b[6n\x1b[c\x1b]11;?\x07\x1b[?2026$p\x1bP+q544e\x1b\\"), uint8(5), uint8(80))
	f.Add([]byte("\x1b[999999100Xa\x1b[99999999ba\x1b[2147483647L\x1b[99999999;99999999H"), uint8(30), uint8(4))
	f.Fuzz(func(t *testing.T, written []byte, piece, cols uint8) {
		size := api.Size{Cols: int(cols%120) + 1, Rows: int(piece%40) + 1}
		terminal := New(size, func([]byte) {})
		defer terminal.Close()
		_, end := terminal.Look()
		defer end()
		for i, rest := 0, written; len(rest) > 0; i++ {
			n := min(len(rest), int(piece)+1)
			terminal.Write(rest[:n], func([]byte) {}, func(bool) {})
			if i%5 == 0 {
				terminal.Picture(nil)
			}
			if rest = rest[n:]; i == 3 {
				size = api.Size{Cols: int(piece%120) + 1, Rows: int(cols%40) + 1}
				terminal.Resize(size)
			}
		}
		p := terminal.Picture(func(text string) [][2]int { return [][2]int{{0, min(3, len(text))}} })
		require.Len(t, p.Lines, size.Rows)
		kept := terminal.Picture(nil).Lines
		terminal.last = nil
		require.Equal(t, terminal.Picture(nil).Lines, kept, "nothing has changed unseen")
		for _, line := range p.Lines {
			width := 0
			for _, part := range line.Parts {
				require.NotContains(t, part.Text, "\x1b")
				width += part.Width
			}
			require.LessOrEqual(t, width, size.Cols)
		}
		terminal.Bytes(api.Input{Text: string(written), Paste: true, Keys: []string{string(written)}})
		if i := bytes.IndexByte(written, 0x1b); i < 0 {
			var lines []byte
			quiet := New(size, func([]byte) {})
			defer quiet.Close()
			quiet.Write(
				written,
				func(p []byte) { lines = append(lines, p...) },
				func(bool) { t.Fatal("nothing is drawn") },
			)
			require.Equal(t, string(written), string(lines))
		}
	})
}
