package e2e

import (
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestNotices has a user look elsewhere while the verdict becomes broken, and current again. The project's own
// command is run, too, with a face and without.
func TestNotices(t *testing.T) {
	p := &background{t, t.TempDir()}
	p.write("level", "3")
	p.write("omnivigil.toml", `
[project]
on_verdict = 'echo "$OMNIVIGIL_VERDICT" >> verdicts'
[task.tides]
run = "grep 3 level"
watch = ["level"]
`)
	cmd := p.command("start", "--trust")
	cmd.Env = append(cmd.Env, "TMUX=", "STY=", "VTE_VERSION=")
	s := onTerminal(t, cmd)
	defer s.terminal.Close()
	s.until(t, "CURRENT")
	s.terminal.WriteString("\x1b[O") // the terminal loses the focus
	p.write("level", "2")
	s.until(t, "\x1b]9;"+nameOf(p.dir)+": BROKEN  tides failed (exit 1)\x1b\\")
	p.write("level", "33")
	s.until(t, "\x1b]9;"+nameOf(p.dir)+": CURRENT  tides (run 3) runs the code saved")
	verdicts := func(want string) {
		t.Helper()
		require.True(t, holds(patience, func() bool {
			text, _ := os.ReadFile(p.dir + "/verdicts")
			return string(text) == want
		}), want)
	}
	verdicts("broken\ncurrent\n")
	s.terminal.WriteString("qq")
	s.until(t, "\x1b[?1049l")

	out, code := p.run("start", "--background", "--trust")
	require.Equal(t, 0, code, out)
	p.run("wait")
	p.write("level", "1")
	verdicts("broken\ncurrent\nbroken\n")
	p.run("stop", "--all")
}

func nameOf(dir string) string { return dir[strings.LastIndex(dir, "/")+1:] }

// TestBrowseOnce opens an address in the browser when it opens, once for each start of the project, and not at each
// restart.
func TestBrowseOnce(t *testing.T) {
	p := &background{t, t.TempDir()}
	p.write("xdg-open", "#!/bin/sh\necho \"$1\" >> "+p.dir+"/opened\n")
	require.NoError(t, os.Chmod(p.dir+"/xdg-open", 0o755))
	p.write("page.pl", `use IO::Socket::INET;
my $server = IO::Socket::INET->new(
  LocalAddr => "127.0.0.1", LocalPort => $ENV{PORT}, Listen => 1, ReuseAddr => 1) or die $!;
while (my $visitor = $server->accept()) { close $visitor }
`)
	port := freePorts(1)[0]
	p.write("omnivigil.toml", strings.ReplaceAll(`
[service.page]
run = "exec perl page.pl"
env = { PORT = "@" }
ready = { port = @ }
endpoint = { port = @, when_up = "browse" }
watch = ["page.pl"]
`, "@", strconv.Itoa(port)))
	opened := func() int {
		text, _ := os.ReadFile(p.dir + "/opened")
		return strings.Count(string(text), strconv.Itoa(port))
	}
	t.Setenv("PATH", p.dir+":"+os.Getenv("PATH"))
	t.Setenv("DISPLAY", ":1")
	for start := range 2 {
		out, code := p.run("start", "--background", "--trust")
		require.Equal(t, 0, code, out)
		p.run("wait")
		require.True(t, holds(patience, func() bool { return opened() == start+1 }))
		for range 2 {
			_, code = p.run("restart", "page")
			require.Equal(t, 0, code)
			p.run("wait")
		}
		// Everything about an address is noticed within a moment.
		require.False(t, holds(time.Second, func() bool { return opened() != start+1 }))
		p.run("stop", "--all")
	}
}
