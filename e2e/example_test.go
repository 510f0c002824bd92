package e2e

import (
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// office is a copy of the example project, on ports of its own.
type office struct {
	t                   *testing.T
	program, dir, state string
	port                map[string]int
	cmd                 *exec.Cmd
	out                 *safeBuffer
}

func openOffice(t *testing.T) *office {
	t.Helper()
	if _, err := exec.LookPath("node"); err != nil {
		t.Skip("node is not installed")
	}
	if found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres"); len(found) == 0 {
		if _, err := exec.LookPath("postgres"); err != nil {
			t.Skip("PostgreSQL is not installed")
		}
	}
	// PostgreSQL runs as another user if the test runs as root, and must have access.
	temp, err := os.MkdirTemp("", "omnivigil-office-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(temp) })
	require.NoError(t, os.Chmod(temp, 0o755))
	o := &office{t: t, program: build(t), dir: temp + "/office", state: temp + "/state", port: map[string]int{}}
	require.NoError(t, os.CopyFS(o.dir, os.DirFS("../examples/harbour-office")))
	require.NoError(t, os.RemoveAll(o.dir+"/data"))
	ports := freePorts(3)
	for i, name := range []string{"54329", "54331", "54332"} {
		o.port[name] = ports[i]
		for _, file := range []string{"/.env", "/omnivigil.toml"} {
			data, err := os.ReadFile(o.dir + file)
			require.NoError(t, err)
			text := strings.ReplaceAll(string(data), name, fmt.Sprint(o.port[name]))
			require.NoError(t, os.WriteFile(o.dir+file, []byte(text), 0o644))
		}
	}
	return o
}

func (o *office) start() {
	o.t.Helper()
	o.out = &safeBuffer{}
	o.cmd = exec.Command(o.program, "start", "--plain", "--trust")
	o.cmd.Dir, o.cmd.Stdout, o.cmd.Stderr = o.dir, o.out, o.out
	o.cmd.Env = append(os.Environ(), "XDG_STATE_HOME="+o.state)
	require.NoError(o.t, o.cmd.Start())
	o.t.Cleanup(func() { o.cmd.Process.Signal(syscall.SIGTERM) })
	o.says(`ripple 1: current after`)
}

// says waits until the stream has a line; the first time, modules may have to be downloaded.
func (o *office) says(pattern string) {
	o.t.Helper()
	re := regexp.MustCompile(pattern)
	for limit := time.Now().Add(3 * time.Minute); time.Now().Before(limit); time.Sleep(20 * time.Millisecond) {
		if re.MatchString(o.out.String()) {
			return
		}
	}
	o.t.Fatalf("never said %q:\n%s", pattern, o.out)
}

func (o *office) url(port, path string) string {
	return fmt.Sprintf("http://127.0.0.1:%d%s", o.port[port], path)
}

// TestExampleThroughEditsAndKills edits each part of the example ten times and kills Omnivigil ten times; the browser
// sees every edit, and the database comes back each time.
func TestExampleThroughEditsAndKills(t *testing.T) {
	t.Parallel()
	times := 10
	if testing.Short() {
		times = 2
	}
	o := openOffice(t)
	o.start()
	for n := 2; n < 2+times; n++ {
		edit(t, o.dir+"/front/server.js", fmt.Sprintf("Harbour office %d", n-1), fmt.Sprintf("Harbour office %d", n))
		answers(t, o.url("54332", "/"), fmt.Sprintf("<h1>Harbour office %d</h1>", n))

		vessel := fmt.Sprintf("Vessel %d", n)
		sql := fmt.Sprintf("insert into berths values ('Little Marram', %d, '%s');", n, vessel)
		require.NoError(t, os.WriteFile(fmt.Sprintf("%s/migrations/%03d.sql", o.dir, n), []byte(sql), 0o644))
		answers(t, o.url("54332", "/"), vessel)

		edit(t, o.dir+"/api/greeting.go", fmt.Sprintf("harbour office %d", n-1), fmt.Sprintf("harbour office %d", n))
		require.Eventually(t, func() bool {
			return strings.HasSuffix(header(o.url("54331", "/berths"), "X-Office"), fmt.Sprint(" ", n))
		},
			patience, 50*time.Millisecond)
	}
	for n := range times {
		victim := o.cmd.Process.Pid
		if pid := theSupervisor(victim); n%2 == 0 && pid != 0 {
			victim = pid
		}
		require.NoError(t, syscall.Kill(victim, syscall.SIGKILL))
		ends(t, o.cmd, patience)
		noneLeft(t, o.dir)
		o.start()
		answers(t, o.url("54331", "/berths"), fmt.Sprintf("Vessel %d", 1+times))
	}
	require.NoError(t, o.cmd.Process.Signal(syscall.SIGTERM))
	ends(t, o.cmd, patience)
	o.says("database system is shut down")
	noneLeft(t, o.dir)
	noSecretIn(t, o.state, "low-water-springs")
}

func header(url, name string) string {
	resp, err := http.Get(url)
	if err != nil {
		return ""
	}
	resp.Body.Close()
	return resp.Header.Get(name)
}

// noSecretIn reads every file below a directory.
func noSecretIn(t *testing.T, dir, secret string) {
	t.Helper()
	files := 0
	require.NoError(t, filepath.WalkDir(dir, func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		files++
		data, err := os.ReadFile(path)
		require.NotContains(t, string(data), secret, path)
		return err
	}))
	require.NotZero(t, files)
}
