package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/mattn/go-runewidth"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// harbour is a project that is at rest at once, with a chain and a rule that matches nothing.
const harbour = `
[project]
name = "Saltmarsh Ferries"
secret = ["*_TOKEN"]
[task.fares]
run = "cat fares.csv"
watch = ["fares.csv"]
[service.tickets]
run = "echo selling at http://127.0.0.1:4104/; sleep 1000"
env = { PORT = "4104", HARBOUR_TOKEN = "swordfish" }
follows = ["fares"]
watch = ["pages/*.html", "none/*.html"]
[service.berths]
run = "sleep 1000"
needs = ["fares"]
[group.sales]
units = ["tickets", "fares"]
`

// tides is a suite with a failing case and a finding.
const tides = `
[suite.tides]
run = "echo 'fares.csv:1:1: error: no berth'; printf '1..1\\nnot ok 1 - low tide\\n'; exit 1"
`

// TestViews goes through every view of the real program at three sizes, as a user would, and checks what the keys do
// in each.
func TestViews(t *testing.T) {
	t.Parallel()
	program := build(t)
	for _, size := range [][2]int{{158, 46}, {80, 24}, {60, 15}} {
		t.Run(fmt.Sprintf("%dx%d", size[0], size[1]), func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			write := func(name, text string) {
				require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
				require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
			}
			write("omnivigil.toml", harbour)
			write("fares.csv", "4")
			write("pages/index.html", "ferries")
			s := openScreen(
				t,
				size[0],
				size[1],
				[]string{"XDG_STATE_HOME=" + dir + "/state"},
				dir,
				program,
				"start",
				"--trust",
			)
			shows := func(pattern string) {
				t.Helper()
				for _, row := range strings.Split(s.shows(pattern), "\n") {
					require.LessOrEqual(t, runewidth.StringWidth(row), size[0], row)
				}
			}
			shows(`CURRENT`)
			write("fares.csv", "5")
			shows(`CURRENT +all 3 run the code saved`)

			s.press("R")
			shows(`▸ +2 .* current .*fares.csv`)
			shows(`(?m)^▸ fares .*█`)
			s.press("Right")
			shows(`tickets run 2 because fares finished again`)
			s.press("Tab")
			shows(`no earlier ripple of the same files`)
			s.press("Tab", "Enter")
			shows(`at \d\d:\d\d:\d\d`)
			s.press(".", "U")
			shows(`tickets  service  ready`)
			for range 5 {
				s.press("NPage")
			}
			shows(`HARBOUR_TOKEN +secret, not shown`)
			s.press("g", "M")
			shows(`fares .*done.*tickets .*ready`)
			s.press("/", "pages/i", "Tab", "Enter")
			shows(`if pages/index.html were saved`)
			shows(`1 tickets .*restarts`)
			s.press("Tab")
			shows(`map: the group sales`)
			s.press("C", "4")
			shows(`last 0\.\d\d s|fares +0\.\d\d s`)
			s.press(":", "span 15", "m", "Enter")
			shows(`15 min|charts|durations`)
			s.press(":", "rippl", "Enter")
			shows(`ripples: what was set off`)
			s.press("?")
			shows(`ripples view`)
			s.press("x", "?", "L", "f", "sales", "Enter")
			shows(`1 more; those with "sales"`)
			s.press("f", "Escape") // together with a letter it would be one key
			shows(`berths +(service +)?ready`)
			s.press("o", "o")
			shows(`lanes ordered by trouble`)
			s.press("O")
			shows(`has not been observed`)
			s.press("r")
			shows(`read +\d+ files?`)
			s.press("O")
			s.press("w", "C-u", dir+"/lanes.svg", "Enter")
			shows(`drawn to`)
			s.press("q", "q")
			shows(`exit code 0`)
			shows(`stopped: `)
			noneLeft(t, dir)
		})
	}
}

// TestEveryKey presses every key of the table in every main view of the real program, at four sizes, with 6, 20 and 60
// units: no row is too wide, no view fails, and afterwards it quits in order. With OMNIVIGIL_KEYS=all, each key has to
// change what is shown, or to give a reason, and each size has each number of units; otherwise one.
func TestEveryKey(t *testing.T) {
	t.Parallel()
	program := build(t)
	out, err := exec.Command(program, "check", "--keys").Output()
	require.NoError(t, err)
	usual := map[int]int{158: 6, 100: 20, 80: 60, 60: 6} // units by width
	for _, size := range [][2]int{{158, 46}, {100, 30}, {80, 24}, {60, 15}} {
		for _, units := range []int{6, 20, 60} {
			all := os.Getenv("OMNIVIGIL_KEYS") == "all"
			if !all && usual[size[0]] != units {
				continue
			}
			t.Run(fmt.Sprintf("%dx%d-%d", size[0], size[1], units), func(t *testing.T) {
				t.Parallel()
				everyKey(t, program, size, units, string(out), all)
			})
		}
	}
}

// everyKey presses the keys of a table, as check --keys prints it. With effect, each has to change the screen, or to
// set off a ripple: what that changes on the screen may be over before it is looked at.
func everyKey(t *testing.T, program string, size [2]int, units int, table string, effect bool) {
	views := [][2]string{
		{"L", `─ (all output|only |with|at least |below |what )`},
		{"R", `ripples: what was set off`},
		{"U", `─ \w+  (service|task|suite)  `},
		{"M", `map: `},
		{"C", `1 cpu`},
		{"T", `low tide`},
		{"F", `no berth`},
	}
	// These give the terminal to another program, or end the face.
	elsewhere := map[string]bool{"quit": true, "suspend": true, "browse": true, "edit": true}
	dir := t.TempDir()
	settings := harbour + tides
	for i := 4; i < units; i++ {
		settings += fmt.Sprintf("[service.quay%d]\nrun = \"exec sleep 1000\"\n", i)
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "omnivigil.toml"), []byte(settings), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "fares.csv"), []byte("4"), 0o644))
	s := openScreen(t, size[0], size[1], []string{"XDG_STATE_HOME=" + dir + "/state"}, dir, program, "start", "--trust")
	s.shows(`BROKEN`)
	ripples := func() string {
		cmd := exec.Command(program, "ripples", "--json")
		cmd.Dir, cmd.Env = dir, append(os.Environ(), "XDG_STATE_HOME="+dir+"/state")
		out, _ := cmd.Output()
		return string(out)
	}
	for _, view := range views {
		for line := range strings.Lines(table) {
			action, keys, _ := strings.Cut(strings.TrimSpace(line), " ")
			if elsewhere[action] {
				continue
			}
			for _, key := range strings.Fields(keys) {
				before, rippled := "", ""
				if effect {
					before, rippled = opened(s, view, views), ripples()
				} else {
					s.press("-l", view[0])
				}
				s.press(inTmux(key)...)
				after := s.text()
				if effect {
					assert.True(t, holds(20*time.Second, func() bool {
						after = s.text()
						return after != before || ripples() != rippled
					}), "%s (%s) in %s:\n%s", key, action, view[0], before)
				}
				for _, row := range strings.Split(after, "\n") {
					require.LessOrEqual(t, runewidth.StringWidth(row), size[0], "%s in %s: %s", key, view[0], row)
				}
				s.press(slices.Concat(escape, escape[1:])...) // a field, and the panel that it is in
			}
		}
		s.press("F12") // a terminal that is still typed into, or whose program has just ended
		s.press(slices.Concat(escape, escape[1:])...)
		s.press("-l", view[0])
		s.shows(view[1])
	}
	crashes, err := filepath.Glob(dir + "/state/omnivigil/*/*/screen-crash.txt")
	require.NoError(t, err)
	require.Empty(t, crashes)
	s.press("L", "q", "q")
	s.shows(`exit code 0`)
	noneLeft(t, dir)
}

// opened opens a view from another one, so that it is as it was first, and returns what it shows.
func opened(s *screen, view [2]string, views [][2]string) string {
	from := views[0]
	if view == from {
		from = views[1]
	}
	s.press("F12") // a terminal may be typed into
	s.press(escape...)
	for _, v := range [][2]string{from, view} {
		s.press("-l", v[0])
		s.shows(v[1])
	}
	return s.text()
}

// escape is the key as it is sent by terminals that distinguish it from the beginning of a sequence: alone, it and
// the next letter could be taken for one key.
var escape = []string{"-l", "\x1b[27u"}

// inTmux returns the send-keys name of a key of the table.
func inTmux(key string) []string {
	named := map[string]string{
		"up":         "Up",
		"down":       "Down",
		"left":       "Left",
		"right":      "Right",
		"enter":      "Enter",
		"tab":        "Tab",
		"space":      "Space",
		"pgup":       "PPage",
		"pgdown":     "NPage",
		"home":       "Home",
		"end":        "End",
		"backspace":  "BSpace",
		"shift+up":   "S-Up",
		"shift+down": "S-Down",
		"f12":        "F12",
		"shift+f12":  "S-F12",
		"f24":        "S-F12", // as some terminals name it
	}
	switch letter, ctrl := strings.CutPrefix(key, "ctrl+"); {
	case key == "esc":
		return escape
	case ctrl:
		return []string{"C-" + letter}
	case named[key] != "":
		return []string{named[key]}
	case key == ";":
		return []string{"-l", `\;`} // alone, it separates commands
	}
	return []string{"-l", key}
}
