package tui

import (
	"encoding/base64"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/face/tui/overview"
	"omnivigil/internal/face/tui/view"
	"omnivigil/internal/output/logbook"
)

// typing types a text, key by key.
func (m *root) types(text string) {
	for _, r := range text {
		m.settle(tea.KeyPressMsg{Code: r, Text: string(r)})
	}
}

// written is a screen with slightly more output than fits.
func written(t *testing.T) (*root, *played) {
	m, p := play(t, 4, 100, 30)
	for i := range 200 {
		p.book.Append(logbook.Entry{Unit: "u1", Run: 2, Ripple: 4}, fmt.Sprintf("crossing %03d", i))
		if i%50 == 20 {
			p.book.Append(logbook.Entry{Unit: "u0", Run: 2, Ripple: 4}, fmt.Sprintf("\x1b[31mtide\x1b[0m is low %d", i),
				fmt.Sprintf(`{"level":"error","msg":"berth refused","berth":%d}`, i))
		}
	}
	p.see()
	return m, p
}

func TestSearch(t *testing.T) {
	m, _ := written(t)
	m.keyed("/")
	m.types("tide IS")
	assert.Contains(t, m.plainScreen(), "0 lines match")
	for range "IS" {
		m.keyed("backspace")
	}
	m.types("is l")
	screen := m.plainScreen()
	assert.Contains(t, screen, "4 lines match")
	assert.Contains(t, screen, "tide is low 170")
	assert.Contains(t, strings.Join(m.screen(), "\n"), "\x1b[7mtide\x1b[0m", "marked, through its colors")
	m.keyed("enter", "N")
	assert.Contains(t, m.plainScreen(), "tide is low 120")
	m.keyed("N", "N", "N")
	assert.Contains(t, m.plainScreen(), "there is no match before this one")
	m.keyed("n")
	assert.Contains(t, m.plainScreen(), "tide is low 70")
	m.keyed("backspace")
	assert.NotContains(t, m.plainScreen(), "lines match")
	m.keyed("/")
	m.types("/a(")
	assert.Contains(t, m.plainScreen(), "missing closing )")
	m.keyed("esc")
	m.keyed("/")
	m.types("crossing 001")
	assert.Contains(t, m.plainScreen(), "crossing 001")
	m.keyed("esc", ".")
	assert.True(t, overview.Focused(m.Model).Following())
}

func TestFilters(t *testing.T) {
	m, _ := written(t)
	m.keyed("&")
	m.types("tide unit=")
	assert.Contains(t, m.plainScreen(), "unit= needs names")
	m.types("u0 !70")
	m.keyed("enter")
	screen := m.plainScreen()
	assert.Contains(t, screen, `with "tide", only u0, without "70"`)
	assert.Contains(t, screen, "tide is low 120")
	assert.NotContains(t, screen, "crossing")
	assert.NotContains(t, screen, "tide is low 170")
	m.keyed("backspace", "~")
	screen = m.plainScreen()
	assert.Contains(t, screen, "at least warning")
	assert.Contains(t, screen, "error   berth refused")
	m.keyed("#")
	assert.Contains(t, m.plainScreen(), `{"level":"error","msg":"berth refused","berth":170}`)
	m.keyed("~", "~", "^")
	assert.Contains(t, m.plainScreen(), "what the last save set off")
	m.keyed("^")
	assert.Contains(t, m.plainScreen(), "all output")
	m.keyed("{")
	assert.Regexp(t, `▸ +broken after \S+ s: u1 crashed`, m.plainScreen())
	m.keyed("@")
	assert.Regexp(t, ` \+1\.\d{3} +(u1 +)?╶ run \d crashed`, m.plainScreen())
}

// copied copies the selected lines and returns what is sent to the terminal's clipboard.
func (m *root) copied() string {
	m.Commands = nil
	m.keyed("enter")
	var text string
	for _, cmd := range m.Commands {
		text += fmt.Sprint(cmd())
	}
	encoded := strings.TrimSuffix(strings.TrimPrefix(text, "\x1b]52;c;"), "\a")
	data, _ := base64.StdEncoding.DecodeString(encoded) // what is wrong differs from what is expected
	return string(data)
}

func TestChosenLines(t *testing.T) {
	t.Setenv("SSH_CONNECTION", "elsewhere") // so that no clipboard program of this machine is used
	m, p := written(t)
	root := t.TempDir()
	p.see()
	m.Snap.Project.Root = root
	m.keyed("\"", "up", "\"", "space", "up", "up")
	assert.Contains(t, m.plainScreen(), "▸ ")
	assert.Equal(t, "crossing 196\ncrossing 197\ncrossing 198", m.copied())
	assert.Equal(t, "overview", m.Top().Name())

	m.keyed(".", "g", "'")
	assert.Contains(t, m.plainScreen(), "▸", "the mark")
	assert.Contains(t, m.plainScreen(), "crossing 198")

	// A stack trace is copied as a whole, and the location it names is opened.
	require.NoError(t, os.WriteFile(filepath.Join(root, "app.js"), nil, 0o600))
	t.Setenv("VISUAL", "code")
	p.book.Append(
		logbook.Entry{Unit: "u1", Run: 2},
		"up",
		"Error: no tide",
		"    at berth (app.js:10:11)",
		"    at main (node:x:1)",
		"down",
	)
	m.keyed(".")
	p.see()
	m.Snap.Project.Root = root
	m.keyed("\"", "up", "up")
	assert.Equal(t, "Error: no tide\n    at berth (app.js:10:11)\n    at main (node:x:1)", m.copied())
	m.keyed("\"", "up", "up")
	view.LookUp(m.Model, "lines", "e").Do(m.Model)
	assert.Len(t, m.Requests, 1, "an editor with a window of its own is started next to the screen")
	m.Requests = nil
	m.keyed("down", "b")
	assert.Contains(t, m.plainScreen(), "this line has no web address")
	m.keyed("esc")

	m.keyed("%")
	for range m.Top().(*view.WriteField).Input.Value() {
		m.keyed("backspace")
	}
	m.types("out.jsonl")
	m.keyed("enter")
	assert.Contains(t, m.plainScreen(), "lines written to "+root)
	data, err := os.ReadFile(filepath.Join(root, "out.jsonl"))
	require.NoError(t, err)
	assert.Contains(t, string(data), `"text":"crossing 199"`)
}

// TestPromptGoesOn checks that text after a prompt is appended to the prompt's line.
func TestPromptGoesOn(t *testing.T) {
	m, p := play(t, 4, 100, 30)
	p.book.Append(logbook.Entry{Unit: "u1", Run: 2}, "migrate? [y/N] ")
	p.book.Append(logbook.Entry{Unit: "u1", Run: 2, Continues: true}, "yes")
	p.see()
	assert.Contains(t, m.plainScreen(), "migrate? [y/N] yes")
}

func TestTwoStreams(t *testing.T) {
	m, p := written(t)
	m.keyed("*")
	assert.Contains(t, m.plainScreen(), "─ only u0 ─", "below, since the screen is narrow")
	m.keyed("pgup")
	assert.False(t, overview.Focused(m.Model).Following())
	assert.True(t, overview.Of(m.Model).Streams[0].Following(), "each scrolls by itself")
	m.keyed("tab", "left")
	for _, s := range overview.Of(m.Model).Streams {
		assert.False(t, s.Following(), "both follow the time cursor")
	}
	m.keyed(".", "*")
	assert.Contains(t, m.plainScreen(), "┬─ only u0 ─", "the other way")
	m.settle(tea.MouseClickMsg{X: 70, Y: overview.Of(m.Model).StreamTop + 2, Button: tea.MouseLeft})
	assert.Equal(t, overview.Of(m.Model).Streams[1], overview.Focused(m.Model))
	m.keyed("esc", "*")
	assert.Len(t, overview.Of(m.Model).Streams, 1)
	p.see()
}
