package tui

import (
	"os"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"

	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/view"
)

// told returns what is sent to the terminal in addition to the screen.
func told(m *root, snap *api.Snapshot) string {
	m.Commands = nil
	m.handle(snap)
	text := ""
	for _, cmd := range m.Commands {
		if raw, ok := cmd().(view.Sequence); ok {
			text += string(raw)
		}
	}
	return text
}

func TestNotices(t *testing.T) {
	t.Setenv("TMUX", "")
	t.Setenv("STY", "")
	t.Setenv("VTE_VERSION", "")
	t.Setenv("TERM", "xterm-256color")
	m, _ := play(t, 3, 140, 40)
	m.adopt(Habits{}, nil)
	snapshot := func(trouble bool, faces ...api.Face) *api.Snapshot {
		snap := *m.Snap
		snap.Trouble, snap.Faces = trouble, faces
		snap.Verdict = api.Verdict{Word: api.VerdictCurrent, Text: "all 3 run"}
		if trouble {
			snap.Verdict = api.Verdict{Word: api.VerdictBroken, Text: "tides\x1b]9;crashed"}
		}
		return &snap
	}
	here := api.Face{Kind: "screen", PID: os.Getpid(), UsedAt: time.Unix(100, 0)}
	assert.Empty(t, told(m, snapshot(false, here)))
	assert.Empty(t, told(m, snapshot(true, here)), "it has just been used")
	assert.Empty(t, told(m, snapshot(false, here)))

	m.handle(tea.BlurMsg{})
	const broken = "\x1b]9;Saltmarsh Ferries: BROKEN  tides\\x1b]9;crashed\x1b\\"
	assert.Equal(t, broken, told(m, snapshot(true, here)), "what others wrote acts on no terminal")
	assert.Empty(t, told(m, snapshot(true, here)), "once")
	assert.Contains(t, told(m, snapshot(false, here)), "CURRENT  all 3 run")
	m.handle(tea.FocusMsg{})
	assert.Empty(t, told(m, snapshot(true, here)), "the person is looking")
	m.handle(tea.BlurMsg{})
	assert.Contains(t, told(m, snapshot(false, here)), "CURRENT")
	later := api.Face{Kind: "screen", PID: 1, UsedAt: time.Unix(200, 0)}
	assert.Empty(t, told(m, snapshot(true, here, later)), "another screen was used last")
	assert.NotEmpty(t, told(m, snapshot(false, here, api.Face{Kind: "plain", PID: 1, UsedAt: time.Unix(200, 0)})))

	m.adopt(Habits{Notify: "off"}, nil)
	assert.Empty(t, told(m, snapshot(true, here)))
	m.adopt(Habits{Notify: "bell"}, nil)
	assert.Equal(t, "\a", told(m, snapshot(false, here)))

	env := func(pairs ...string) func(string) string {
		return func(name string) string {
			for i := 0; i < len(pairs); i += 2 {
				if pairs[i] == name {
					return pairs[i+1]
				}
			}
			return ""
		}
	}
	assert.Equal(t, "\a", notice("", env("TMUX", "/tmp/x", "TERM", "xterm"), "a", "b"))
	assert.Equal(t, "\a", notice("desktop", env("TERM", "screen.xterm"), "a", "b"))
	assert.Equal(t, "\x1b]777;notify;a, c;b;d\x1b\\", notice("", env("TERM", "foot"), "a; c", "b;d"))
}
