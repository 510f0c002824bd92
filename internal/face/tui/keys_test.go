package tui

import (
	"strings"
	"testing"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/face/tui/view"
)

// meanings are what the names of the bindings of a letter say: a letter has one meaning in all views.
var meanings = map[string]string{
	"r": "restart|rerun|run this test", "u": "setup", "s": "stop", "p": "pause", "b": "browser", "y": "explain|close",
	"l": "loop", "w": "write", "m": "mouse", "e": "editor", "t": "tests|only the tests", "x": "failing", "a": "add",
	"d": "remove|all tests", "c": "without", "i": "type a line", "h": "type into", "f": "find|filter", "o": "sort",
	"z": "fold", "v": "restarted", "k": "previous|up|newer", "j": "next|down|older", "g": "first|newest|beginning|oldest",
	"n": "next match", "q": "back|close|leave|second press",
}

// TestKeys checks the table of keys: a key occurs once in a view unless its conditions exclude each other, every
// entry is named, and each key that stands for a request sends it.
func TestKeys(t *testing.T) {
	used := map[string]*view.Binding{}
	for i := range bindings {
		b := &bindings[i]
		assert.NotEmpty(t, b.Name)
		assert.LessOrEqual(t, ansi.StringWidth(b.Name), 158/2-4-keyWidth, "%q is cut in the help", b.Name)
		if b.In == "overview" {
			assert.Contains(t, view.Groups, b.Group)
		}
		if b.In == "overview" && b.When != nil {
			assert.NotEmpty(t, b.Unless, "why does %s do nothing?", b.Action)
		}
		for _, k := range b.Keys {
			if verb := meanings[k]; verb != "" {
				assert.Regexp(t, verb, b.Name, "%s in the %s view", k, b.In)
			}
			if before := used[b.In+" "+k]; before != nil {
				assert.True(t, before.When != nil && b.When != nil, "%q stands twice in %s", k, b.In)
			}
			used[b.In+" "+k] = b
		}
	}
	m, s := play(t, 5, 100, 30)
	for _, k := range []string{"down", "r", "u", "s", "p", "ctrl+r", "ctrl+p", "ctrl+p", "q", "q", "q"} {
		m.keyed(k)
		s.see()
	}
	assert.Equal(
		t,
		[]string{"restart u1", "set-up u1", "stop u1", "pause u1", "restart", "pause", "resume", "end", "end-now"},
		s.requests,
	)
}

// TestLeavingLast checks the question of the only screen of a foreground project, and that q goes back elsewhere.
func TestLeavingLast(t *testing.T) {
	for key, want := range map[string][]string{
		"esc": nil, "enter": {"leave-running"}, "s": {"end"}, "q": {"end"}, "ctrl+c": {"end"},
	} {
		m, s := play(t, 5, 100, 30)
		for _, view := range []string{"R", "U", "M", "C", "?", "O"} {
			m.keyed(view, "q")
			require.True(t, m.IsOpen("overview"), view)
		}
		m.keyed("q")
		assert.Contains(t, m.plainScreen(), "Leave Saltmarsh Ferries? 3 units running.")
		m.keyed(key)
		m.settle(nil)
		assert.Equal(t, want, s.requests, key)
	}
}

// TestKeyWithoutEffect checks that the bottom line says why a key does nothing.
func TestKeyWithoutEffect(t *testing.T) {
	m, s := play(t, 5, 120, 30)
	for _, c := range []struct{ keys, want string }{
		{"n", "n: nothing is searched for: / searches"},
		{"esc", "esc: this is now"},
		{"tab", "tab: there is only one stream"},
		{"v", "v does nothing here; ? lists the keys"},
		{"R v", "v does nothing here; ? lists the keys"},
		{"R F", "F: nothing is reported"},
		{"? r", "r does nothing here; esc goes back"},
	} {
		m.keyed("L")
		s.requests = nil
		m.keyed(strings.Fields(c.keys)...)
		assert.Contains(t, m.plainScreen(), c.want)
		assert.Empty(t, s.requests)
		m.keyed("esc")
	}
	for _, field := range []string{"/", "M /"} {
		m.keyed("L")
		m.keyed(append(strings.Fields(field), "v")...)
		assert.NotContains(t, m.plainScreen(), "does nothing", "a field takes it")
		m.keyed("esc", "esc")
	}
}
