package terminal

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/api"
)

// another is a terminal of tmux that shows the contents of a file.
type another struct {
	t      *testing.T
	dir    string
	number int
}

func openTmux(t *testing.T, size api.Size) *another {
	t.Helper()
	if _, err := exec.LookPath("tmux"); err != nil {
		t.Skip("tmux is not installed")
	}
	a := &another{t: t, dir: t.TempDir()}
	a.tmux(
		"-f",
		"/dev/null",
		"new-session",
		"-d",
		"-x",
		strconv.Itoa(size.Cols),
		"-y",
		strconv.Itoa(size.Rows),
		"sleep 1000",
	)
	t.Cleanup(func() { exec.Command("tmux", "-S", filepath.Join(a.dir, "tmux"), "kill-server").Run() })
	return a
}

func (a *another) tmux(words ...string) string {
	out, err := exec.Command("tmux", append([]string{"-S", filepath.Join(a.dir, "tmux")}, words...)...).CombinedOutput()
	require.NoError(a.t, err, string(out))
	return string(out)
}

// shows returns what tmux shows for some bytes, and its cursor position. It waits for a moment for the wanted result:
// on a busy machine, a pane that was just respawned may still be empty.
func (a *another) shows(written []byte, wanted string) (text string, row, col int) {
	a.number++
	file, done := filepath.Join(a.dir, "written"), fmt.Sprintf("done-%d", a.number)
	require.NoError(a.t, os.WriteFile(file, fmt.Appendf(written, "\x1b]2;%s\x07", done), 0o600))
	a.tmux("respawn-pane", "-k", "stty raw -echo; cat "+file+"; exec sleep 1000")
	title := func() bool { return strings.TrimSpace(a.tmux("display", "-p", "#{pane_title}")) == done }
	require.Eventually(a.t, title, time.Minute, 5*time.Millisecond)
	for until := time.Now().Add(5 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		fmt.Sscanf(a.tmux("display", "-p", "#{cursor_y} #{cursor_x}"), "%d %d", &row, &col)
		rows := strings.Split(a.tmux("capture-pane", "-p"), "\n")
		for i := range rows {
			rows[i] = strings.TrimRight(rows[i], " ")
		}
		text = strings.TrimRight(strings.Join(rows, "\n"), "\n")
		if text == wanted || time.Now().After(until) {
			return text, row, col
		}
	}
}

var size80 = api.Size{Cols: 80, Rows: 24}

// TestAsTmuxShows compares with another terminal for the output of real programs: an editor with windows, a pager,
// prompts of Python and Node, a shell.
func TestAsTmuxShows(t *testing.T) {
	files, err := filepath.Glob("testdata/*.vt")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	a := openTmux(t, size80)
	for _, file := range files {
		t.Run(filepath.Base(file), func(t *testing.T) {
			written, err := os.ReadFile(file)
			require.NoError(t, err)
			f := open(t, size80.Cols, size80.Rows)
			f.write(string(written))
			want, row, col := a.shows(written, f.text())
			assert.Equal(t, want, f.text())
			at := f.Picture(nil).Cursor
			assert.Equal(t, [2]int{row, min(col, size80.Cols-1)}, [2]int{at.Row, at.Col})
		})
	}
}

// TestRandomAsTmux compares random streams of text and sequences.
func TestRandomAsTmux(t *testing.T) {
	a := openTmux(t, size80)
	for seed := range uint64(100) {
		written := randomStream(rand.New(rand.NewPCG(seed, 7)), size80, seed%2 > 0)
		f := open(t, size80.Cols, size80.Rows)
		f.write(written)
		want, row, col := a.shows([]byte(written), f.text())
		got := f.text()
		at := f.Picture(nil).Cursor
		if !assert.Equal(t, want, got, "seed %d: %q", seed, written) ||
			!assert.Equal(
				t,
				[2]int{row, min(col, size80.Cols-1)},
				[2]int{at.Row, at.Col},
				"seed %d: %q",
				seed,
				written,
			) {
			continue
		}
	}
}

// randomStream returns text with sequences as programs use them. It avoids the cases in which terminals differ (the
// column after lines are inserted, positions outside a scroll region, half of a wide character; see docs/limits.md).
// For this reason, only every other stream has wide text, and those move only by rows.
func randomStream(r *rand.Rand, size api.Size, wide bool) string {
	var b strings.Builder
	texts := []string{"tide", "berth 4 is free until noon ", "Fähre", "\r\n", "\r\n", "\r\n", strings.Repeat("=", 85)}
	kinds := 13
	if wide {
		texts, kinds = append(texts, "渡し船", "渡し船 e\u0301", strings.Repeat("渡", 43)), 7
	} else {
		texts = append(texts, "\n", "\r", "ab\b", "\t")
	}
	own := false
	for range 30 + r.IntN(200) {
		n, row := 1+r.IntN(6), 1+r.IntN(size.Rows)
		switch r.IntN(kinds + 10) {
		case 0:
			fmt.Fprintf(&b, "\x1b[%d;1H\x1b[%dK", row, []int{0, 2}[r.IntN(2)])
		case 1:
			fmt.Fprintf(&b, "\x1b[r\x1b[%d;1H\x1b[%d%c", row, n, "LM"[r.IntN(2)])
		case 2:
			fmt.Fprintf(&b, "\x1b[%d%c", n, "STEF"[r.IntN(4)])
		case 3:
			if top := 1 + r.IntN(size.Rows-3); r.IntN(3) > 0 {
				fmt.Fprintf(&b, "\x1b[%d;%dr", top, top+2+r.IntN(size.Rows-top-1))
			} else {
				b.WriteString("\x1b[r")
			}
		case 4:
			const conceal = 8 // tmux shows the text
			fmt.Fprintf(&b, "\x1b[%dm", (conceal+1+r.IntN(47))%48)
		case 5:
			b.WriteString(map[bool]string{false: "\x1b[r\x1b[?1049h\x1b[H", true: "\x1b[r\x1b[?1049l"}[own])
			own = !own
		case 6:
			b.WriteString([]string{"\x1b[?25l", "\x1b[?25h", "\r\x1bM", "\r\x1bD"}[r.IntN(4)])
		case kinds - 1:
			if !wide {
				fmt.Fprintf(&b, "\x1b[%d%c", r.IntN(3), "JK"[r.IntN(2)])
			}
		case kinds - 2:
			if !wide {
				fmt.Fprintf(&b, "\x1b[%d%c", n, "ABCDGd"[r.IntN(6)])
			}
		case kinds - 3:
			if !wide {
				fmt.Fprintf(&b, "\x1b[r\x1b[%d;%dH\x1b[%d%c", row, 1+r.IntN(size.Cols), n, "@PX"[r.IntN(3)])
			}
		case kinds - 4:
			if !wide {
				fmt.Fprintf(&b, "\x1b[%d;%dH", row, 1+r.IntN(size.Cols-2))
			}
		case kinds - 5:
			if !wide {
				b.WriteString([]string{"\x1b7\x1b[2;5Hab\x1b8", "\x1b[?7l12\x1b[?7h", "=\x1b[3b"}[r.IntN(3)])
			}
		default:
			b.WriteString(texts[r.IntN(len(texts))])
		}
	}
	return b.String()
}
