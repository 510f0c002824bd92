package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// plainly starts a project as a plain stream and returns functions that wait for a line of it and leave.
func plainly(t *testing.T, dir, settings string) (says func(string), leave func()) {
	t.Helper()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "omnivigil.toml"), []byte(settings), 0o644))
	o := &office{t: t, program: build(t), dir: dir, state: t.TempDir(), out: &safeBuffer{}}
	o.cmd = exec.Command(o.program, "start", "--plain", "--trust")
	o.cmd.Dir, o.cmd.Stdout, o.cmd.Stderr = dir, o.out, o.out
	o.cmd.Env = append(os.Environ(), "XDG_STATE_HOME="+o.state)
	require.NoError(t, o.cmd.Start())
	t.Cleanup(func() { o.cmd.Process.Signal(syscall.SIGTERM) })
	return o.says, func() {
		require.NoError(t, o.cmd.Process.Signal(syscall.SIGTERM))
		ends(t, o.cmd, patience)
		noneLeft(t, o.state)
	}
}

func TestTwoHundredUnits(t *testing.T) {
	var settings strings.Builder
	for i := range 200 {
		fmt.Fprintf(&settings, "[service.u%d]\nrun = \"exec sleep 1000\"\n", i)
	}
	says, leave := plainly(t, t.TempDir(), settings.String())
	says(`ripple 1: current after`)
	leave()
}

func TestFolderWithAnOddName(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(t.TempDir(), "it's a \"fähre\" [1] {2}\nüber 海 $HOME")
	require.NoError(t, os.MkdirAll(dir, 0o755))
	says, leave := plainly(t, dir, "[task.here]\nrun = \"cat words.txt\"\nwatch = [\"*.txt\"]\n")
	says(`here failed: exit 1`)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "words.txt"), []byte("found its file\n"), 0o644))
	says(`here +found its file`)
	leave()
}

func TestFolderDeletedUnderAUnit(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(dir+"/sub", 0o755))
	says, leave := plainly(
		t,
		dir,
		"[service.gone]\nrun = \"exec sleep 1000\"\ndir = \"sub\"\nwatch = [\"go\"]\n[service.stays]\n"+
			"run = \"exec sleep 1000\"\n",
	)
	says(`ripple 1: current after`)
	require.NoError(t, os.RemoveAll(dir+"/sub"))
	require.NoError(t, os.WriteFile(dir+"/go", nil, 0o644))
	says(`gone does not start: its directory .*/sub does not exist`)
	says(`ripple 2: broken`)
	leave()
}

// TestRealServers runs a Redis and an nginx as units: they change their process titles, fork workers, and are ended
// with all of them.
func TestRealServers(t *testing.T) {
	t.Parallel()
	for _, program := range []string{"redis-server", "nginx"} {
		if _, err := exec.LookPath(program); err != nil {
			t.Skip(program + " is not installed")
		}
	}
	dir := t.TempDir()
	ports := freePorts(2)
	withPorts := func(text string) string {
		return strings.NewReplacer("PORT1", fmt.Sprint(ports[0]), "PORT2", fmt.Sprint(ports[1])).Replace(text)
	}
	url := withPorts("http://127.0.0.1:PORT1/")
	require.NoError(t, os.WriteFile(dir+"/nginx.conf", []byte(withPorts(`
daemon off; worker_processes 2; pid nginx.pid; error_log stderr;
events {}
http { access_log off; server { listen 127.0.0.1:PORT1; location / { return 200 "tide tables 1\n"; } } }
`)), 0o644))
	says, leave := plainly(t, dir, withPorts(`
[service.redis]
run = ["redis-server", "--port", "PORT2", "--bind", "127.0.0.1", "--save", "", "--daemonize", "no"]
ready = { line = "Ready to accept connections" }
[service.nginx]
run = ["sh", "-c", "exec nginx -p $PWD -c nginx.conf"]
ready = { http = "http://127.0.0.1:PORT1/" }
[[service.nginx.reaction]]
when = "nginx.conf"
do = "signal:HUP"
`))
	says(`ripple 1: current after`)
	says(withPorts(`redis listens on 127.0.0.1:PORT2`))
	answers(t, url, "tide tables 1")
	edit(t, dir+"/nginx.conf", "tide tables 1", "tide tables 2")
	answers(t, url, "tide tables 2")
	says(`nginx is sent HUP: nginx.conf changed`)
	leave()
	require.Contains(t, get(url), "refused")
}
