package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// quay is an nginx that serves a directory and lets others write into it.
type quay struct {
	*testing.T
	dir, url string
	cmd      *exec.Cmd
}

func openQuay(t *testing.T) *quay {
	if _, err := exec.LookPath("nginx"); err != nil {
		t.Skip("nginx is not installed")
	}
	q := &quay{T: t, dir: t.TempDir()}
	port := freePorts(1)[0]
	q.url = fmt.Sprintf("http://127.0.0.1:%d/harbour/", port)
	require.NoError(t, os.Mkdir(filepath.Join(q.dir, "www"), 0o755))
	user := ""
	if os.Getuid() == 0 {
		user = "user root;"
	}
	require.NoError(t, os.WriteFile(filepath.Join(q.dir, "nginx.conf"), fmt.Appendf(nil, `
%s daemon off; master_process off; pid nginx.pid; error_log error.log;
events {}
http {
  access_log access.log; client_body_temp_path body; client_max_body_size 0;
  server {
    listen 127.0.0.1:%d; root www;
    location / { dav_methods PUT; create_full_put_path on; }
  }
}
`, user, port), 0o644))
	q.cmd = exec.Command("nginx", "-p", q.dir, "-c", "nginx.conf", "-e", "error.log")
	require.NoError(t, q.cmd.Start())
	t.Cleanup(func() {
		q.cmd.Process.Kill()
		q.cmd.Wait()
	})
	starts := func() bool { return !strings.Contains(get(q.url), "refused") }
	require.True(t, holds(patience, starts), "nginx does not start")
	return q
}

// asked is how many requests for results and contents it has answered.
func (q *quay) asked() int {
	log, err := os.ReadFile(filepath.Join(q.dir, "access.log"))
	require.NoError(q, err)
	return strings.Count(string(log), "/results/") + strings.Count(string(log), "/contents/")
}

// teammate is a user with a working copy of the workspace.
type teammate struct {
	*workspace
	config string
	env    []string
}

func openTeammate(t *testing.T, share string) *teammate {
	u := &teammate{workspace: openWorkspace(t), config: t.TempDir()}
	u.settings = strings.Replace(u.settings, "[project]",
		fmt.Sprintf("[project]\nname = \"harbour\"\nshare = { url = %q }", share), 1)
	u.env = []string{"XDG_STATE_HOME=" + u.state, "XDG_CONFIG_HOME=" + u.config, "HOME=" + u.config}
	require.NoError(t, os.WriteFile(filepath.Join(u.dir, "omnivigil.toml"), []byte(u.settings), 0o644))
	return u
}

// does runs a command of the program that succeeds.
func (u *teammate) does(words ...string) string {
	out, err := command(u.env, u.dir, words...)
	require.NoError(u.t, err, out)
	return out
}

// starts starts the project, and returns when everything is ready.
func (u *teammate) starts() {
	u.does("start", "--background", "--trust")
	u.t.Cleanup(func() { command(u.env, u.dir, "stop", "--all") })
	u.does("wait")
}

// runs is how many tasks this one has run.
func (u *teammate) runs() int {
	log, _ := os.ReadFile(filepath.Join(u.dir, "tasks.log"))
	return strings.Count(string(log), "+")
}

// build returns what was made.
func (u *teammate) build() map[string]string {
	made := map[string]string{}
	files, err := filepath.Glob(filepath.Join(u.dir, "build/*"))
	require.NoError(u.t, err)
	for _, file := range files {
		data, err := os.ReadFile(file)
		require.NoError(u.t, err)
		info, err := os.Stat(file)
		require.NoError(u.t, err)
		made[filepath.Base(file)] = info.Mode().String() + " " + string(data)
	}
	return made
}

// tasksOfWorkspace are the tasks of the workspace.
func tasksOfWorkspace() (names []string) {
	for chain := range 10 {
		for link := range 5 {
			names = append(names, fmt.Sprintf("step-%d-%d", chain, link))
		}
	}
	return names
}

// TestSharedWorkspace builds the workspace once between continuous integration and a user, and then without the share.
func TestSharedWorkspace(t *testing.T) {
	t.Parallel()
	q := openQuay(t)
	ci := openTeammate(t, q.url)
	public := strings.TrimSpace(ci.does("share", "create"))
	public = public[strings.LastIndex(public, "\n")+1:]
	assert.Equal(t, public+"\n", ci.does("share", "key"))
	key, err := os.ReadFile(filepath.Join(ci.config, "omnivigil/share-key.pem"))
	require.NoError(t, err)
	ci.env = append(ci.env, "OMNIVIGIL_SHARE_KEY="+string(key))
	ci.does(append([]string{"once", "--trust"}, tasksOfWorkspace()...)...)
	require.Equal(t, 50, ci.runs())
	assert.Regexp(t, `answers, 50 results listed\nsends +yes`, ci.does("share"))

	// One who does not trust the key builds everything.
	stranger := openTeammate(t, q.url)
	stranger.starts()
	assert.Equal(t, 50, stranger.runs())
	assert.Equal(t, ci.build(), stranger.build())

	u := openTeammate(t, q.url)
	require.True(t, holds(patience, func() bool { // a busy machine is slower than the tasks
		u.does("share", "trust", "ci", public)
		u.starts()
		if u.runs() == 0 {
			return true
		}
		u.does("stop", "--all")
		u = openTeammate(t, q.url)
		return false
	}), "everything is there")
	assert.Equal(t, ci.build(), u.build())
	assert.Regexp(t, `its result was restored from ci's run of`, u.does("status", "step-3-3"))
	assert.Contains(t, u.does("logs", "step-3-3"), "restored from ci's run of")

	// What is saved is built here, even if it is there: nothing of a save asks the share.
	asked := q.asked()
	require.NoError(t, os.WriteFile(filepath.Join(u.dir, "step-3-3.csv"), []byte("dearer"), 0o644))
	u.does("wait")
	assert.Equal(t, 2, u.runs())
	assert.Equal(t, asked, q.asked())

	// The share does not answer, and then it is gone.
	u.does("stop", "--all")
	for _, sig := range []syscall.Signal{syscall.SIGSTOP, syscall.SIGKILL} {
		require.NoError(t, q.cmd.Process.Signal(sig))
		before := u.runs()
		for _, file := range []string{"build/step-8-4", "build/step-7-4"} {
			require.NoError(t, os.Remove(filepath.Join(u.dir, file)))
		}
		require.NoError(t, os.WriteFile(filepath.Join(u.dir, "step-0-4.csv"), fmt.Append(nil, sig), 0o644))
		u.starts()
		assert.Equal(t, before+1, u.runs(), "the rest is kept here")
		assert.Contains(t, u.does("logs"), "the share is not used for a minute")
		u.does("stop", "--all")
	}

	// A key that is not trusted any more.
	u.does("share", "untrust", "ci")
	u.starts()
	assert.GreaterOrEqual(t, u.runs(), 50, "what it has signed was built here")
	assert.Equal(t, len(ci.build()), len(u.build()))
}

// TestChangedShare changes the share while the project runs: it has no effect without consent.
func TestChangedShare(t *testing.T) {
	t.Parallel()
	q := openQuay(t)
	u := openTeammate(t, "http://127.0.0.1:9/nothing/")
	u.starts()
	u.settings = strings.Replace(u.settings, "http://127.0.0.1:9/nothing/", q.url, 1)
	require.NoError(t, os.WriteFile(filepath.Join(u.dir, "omnivigil.toml"), []byte(u.settings), 0o644))
	require.True(t, holds(patience, func() bool {
		return strings.Contains(u.does("logs"), "the share in the settings has changed")
	}))
	u.does("restart", "step-0-0")
	u.does("wait")
	assert.Zero(t, q.asked())
	u.does("stop", "--all")
	out, err := command(u.env, u.dir, "start", "--background")
	require.Error(t, err)
	assert.Contains(t, out, "uses results from: "+q.url)
}
