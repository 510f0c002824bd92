package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/rogpeppe/go-internal/txtar"
	"github.com/stretchr/testify/require"
)

// TestHour plays testdata/hour.story: an hour of work at the screen, with what a user saves, types and sees. Each key
// is pressed once, and what it does shows before the next one is pressed.
//
//	save FILE [AS]   writes a file of the archive, by its own name or by another
//	key KEY...       presses keys, as tmux names them
//	type TEXT        types text
//	see REGEXP       waits until the screen shows it
//	not REGEXP       requires that the screen does not show it now
func TestHour(t *testing.T) {
	t.Parallel()
	program := build(t)
	story, err := txtar.ParseFile("testdata/hour.story")
	require.NoError(t, err)
	dir := t.TempDir()
	files := map[string][]byte{}
	write := func(name string, data []byte) {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, data, 0o644))
	}
	for _, f := range story.Files {
		if files[f.Name] = f.Data; !strings.HasPrefix(f.Name, "later/") {
			write(f.Name, f.Data)
		}
	}
	s := openScreen(t, 120, 40, []string{"XDG_STATE_HOME=" + dir + "/state"}, dir, program, "start", "--trust")
	pressed, seen := 0, true
	for number, line := range strings.Split(string(story.Comment), "\n") {
		verb, rest, _ := strings.Cut(strings.TrimSpace(line), " ")
		switch where := fmt.Sprintf("testdata/hour.story:%d: %s", number+1, line); verb {
		case "", "#":
		case "save":
			name, as, found := strings.Cut(rest, " ")
			if !found {
				as = name
			}
			require.Contains(t, files, name, where)
			write(as, files[name])
		case "key", "type":
			require.True(t, seen, "%s: what the key before did was not looked at", where)
			keys := strings.Fields(rest)
			if verb == "type" {
				keys = []string{"-l", rest}
			}
			s.press(keys...)
			pressed += len(keys)
			seen = verb == "type"
		case "see":
			t.Log(where)
			s.shows(rest)
			seen = true
		case "not":
			require.NotRegexp(t, rest, s.text(), where)
		default:
			t.Fatalf("%s: unknown", where)
		}
	}
	t.Logf("%d keys", pressed)
	noneLeft(t, dir)
}
