package e2e

import (
	"os"
	"path/filepath"
	"runtime"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestClipboard copies lines: "copied" is said when a clipboard program has taken them, and otherwise that they were
// sent to the terminal.
func TestClipboard(t *testing.T) {
	t.Parallel()
	if runtime.GOOS == "darwin" {
		t.Skip("the clipboard program of macOS is always there")
	}
	program := build(t)
	for name, test := range map[string]struct{ script, says string }{
		"taken":   {"cat >taken", `1 line copied`},
		"refused": {"exit 1", `1 line sent to the terminal's clipboard; " and then w write`},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			write := func(name, text string, mode os.FileMode) {
				require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), mode))
			}
			write("omnivigil.toml", "[service.tides]\nrun = \"echo low water; exec sleep 1000\"\n", 0o600)
			write("xclip", "#!/bin/sh\n"+test.script+"\n", 0o700)
			s := openScreen(t, 100, 30, []string{"XDG_STATE_HOME=" + dir + "/state"}, dir, "env", "-u", "WAYLAND_DISPLAY",
				"-u", "SSH_CONNECTION", "PATH="+dir+":$PATH", program, "start", "--trust")
			s.shows(`CURRENT`)
			s.shows(`low water`)
			s.press("Up", `"`)
			s.shows(`enter copy`)
			s.press("k", "Enter")
			s.shows(test.says)
			if name == "taken" {
				taken, err := os.ReadFile(filepath.Join(dir, "taken"))
				require.NoError(t, err)
				require.NotEmpty(t, taken)
			}
			s.press("q", "q")
			s.shows(`exit code 0`)
			noneLeft(t, dir)
		})
	}
}
