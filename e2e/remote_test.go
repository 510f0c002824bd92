package e2e

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The link of a test: it delays what it carries, and carries so many bytes per second.
const (
	linkDelay = 80 * time.Millisecond
	linkRate  = 1_000_000 / 8
	linksVar  = "OMNIVIGIL_TEST_LINKS" // the directory that gets the process ID of each
)

// slowLink stands for ssh: it runs the command on this machine, at the other end of a slow link.
func slowLink() {
	args := os.Args
	c := exec.Command("sh", "-c", args[len(args)-1])
	to, err := c.StdinPipe()
	if err != nil {
		os.Exit(255)
	}
	from, err := c.StdoutPipe()
	if err != nil {
		os.Exit(255)
	}
	c.Stderr = os.Stderr
	own := filepath.Join(os.Getenv(linksVar), strconv.Itoa(os.Getpid()))
	if os.WriteFile(own, nil, 0o600) != nil || c.Start() != nil {
		os.Exit(255)
	}
	go func() {
		carry(to, os.Stdin)
		to.Close()
	}()
	carry(os.Stdout, from)
	c.Wait()
	os.Exit(c.ProcessState.ExitCode())
}

// carry copies bytes as the link does.
func carry(to io.Writer, from io.Reader) {
	type part struct {
		data []byte
		at   time.Time
	}
	under := make(chan part, 1000)
	go func() {
		defer close(under)
		for free := time.Now(); ; {
			data := make([]byte, 4<<10)
			n, err := from.Read(data)
			if n > 0 {
				if now := time.Now(); free.Before(now) {
					free = now
				}
				free = free.Add(time.Duration(n) * time.Second / linkRate)
				time.Sleep(time.Until(free))
				under <- part{data[:n], free.Add(linkDelay)}
			}
			if err != nil {
				return
			}
		}
	}()
	for p := range under {
		time.Sleep(time.Until(p.at))
		if _, err := to.Write(p.data); err != nil {
			return
		}
	}
}

// overSlowLink returns the environment of commands whose ssh is a slow link, and what cuts all of these links.
func overSlowLink(t *testing.T) (env []string, cut func()) {
	bin, links := t.TempDir(), t.TempDir()
	self, err := os.Executable()
	require.NoError(t, err)
	require.NoError(t, os.Symlink(self, filepath.Join(bin, "ssh")))
	require.NoError(t, os.Symlink(build(t), filepath.Join(bin, "omnivigil")))
	return []string{"PATH=" + bin + ":" + os.Getenv("PATH"), linksVar + "=" + links}, func() {
		entries, err := os.ReadDir(links)
		require.NoError(t, err)
		for _, e := range entries {
			pid, _ := strconv.Atoi(e.Name())
			syscall.Kill(pid, syscall.SIGKILL)
			os.Remove(filepath.Join(links, e.Name()))
		}
	}
}

// TestSlowLink follows four busy units over a slow link, which is cut and comes back.
func TestSlowLink(t *testing.T) {
	t.Parallel()
	dir, state := t.TempDir(), t.TempDir()
	settings := "[project]\nname = \"Sea\"\n"
	for n := range 4 {
		settings += fmt.Sprintf("[service.pier-%d]\nrun = \"i=0; while :; do i=$((i+1)); echo wave $i at $(date +%%s) "+
			"along the whole pier; sleep 0.005; done\"\n", n)
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "omnivigil.toml"), []byte(settings), 0o644))
	link, cut := overSlowLink(t)
	env := append([]string{"XDG_STATE_HOME=" + state}, link...)
	at := "ssh://harbour" + dir
	out, err := command(env, dir, "--at", at, "start", "--background", "--trust")
	require.NoError(t, err, out)
	t.Cleanup(func() { command(env, dir, "stop", "--all") })

	s := openScreen(t, 158, 46, env, dir, build(t), "--at", at, "attach")
	// fresh reports whether the screen shows what was written less than three seconds ago.
	wave := regexp.MustCompile(`wave \d+ at (\d+)`)
	fresh := func() bool {
		newest := int64(0)
		for _, m := range wave.FindAllStringSubmatch(s.text(), -1) {
			at, _ := strconv.ParseInt(m[1], 10, 64)
			newest = max(newest, at)
		}
		return time.Now().Unix()-newest < 3
	}
	require.True(t, holds(patience, fresh), s.text())
	s.shows(`Sea on harbour`)
	s.press("U")
	s.shows(`settings +omnivigil.toml, line`)
	s.press("L")
	require.True(t, holds(patience, fresh), s.text())

	cut()
	require.True(t, holds(patience, fresh), "the stream goes on after the link was cut")
	s.press("q")
	s.shows(`keeps? running`)
	s.press("Enter")
}

// TestOverSSH uses a real ssh and sshd: commands, a forwarded port, and what goes wrong.
func TestOverSSH(t *testing.T) {
	t.Parallel()
	for _, program := range []string{"ssh", "/usr/sbin/sshd", "ssh-keygen"} {
		if _, err := exec.LookPath(program); err != nil {
			t.Skip(program + " is not installed")
		}
	}
	i := openIsland(t)
	there := t.TempDir()
	at := func(name string) string { return filepath.Join(there, name) }
	for _, name := range []string{"host", "user"} {
		out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", at(name)).CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	write := func(name, text string, mode os.FileMode) {
		require.NoError(t, os.MkdirAll(filepath.Dir(at(name)), 0o755))
		require.NoError(t, os.WriteFile(at(name), []byte(text), mode))
	}
	port := freePorts(1)[0]
	require.NoError(t, os.Mkdir(at("bin"), 0o755))
	require.NoError(t, os.Symlink(build(t), at("bin/omnivigil")))
	write("sshd_config", fmt.Sprintf(`Port %d
ListenAddress 127.0.0.1
HostKey %s
AuthorizedKeysFile %s
PidFile none
StrictModes no
UsePAM no
PasswordAuthentication no
SetEnv PATH=%s:%s %s
`, port, at("host"), at("user.pub"), at("bin"), os.Getenv("PATH"), strings.Join(i.env, " ")), 0o600)
	if os.Getuid() == 0 {
		os.MkdirAll("/run/sshd", 0o755) // sshd requires it
	}
	daemon := exec.Command("/usr/sbin/sshd", "-D", "-e", "-f", at("sshd_config"))
	require.NoError(t, daemon.Start())
	t.Cleanup(func() {
		daemon.Process.Kill()
		daemon.Wait()
	})
	public, err := os.ReadFile(at("host.pub"))
	require.NoError(t, err)
	write("known", fmt.Sprintf("[127.0.0.1]:%d %s", port, public), 0o600)
	const config = "Host harbour\nHostName 127.0.0.1\nPort %d\nIdentityFile %s\nUserKnownHostsFile %s\n"
	write("ssh_config", fmt.Sprintf(config,
		port, at("user"), at("known")), 0o600)
	ssh, err := exec.LookPath("ssh")
	require.NoError(t, err)
	write("here/ssh", fmt.Sprintf("#!/bin/sh\nsleep ${TYPING:-0}\nexec %s -F %s \"$@\"\n", ssh, at("ssh_config")), 0o755)
	require.True(t, holds(patience, func() bool {
		c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err == nil {
			c.Close()
		}
		return err == nil
	}))

	elsewhere := t.TempDir() // not in the project, with another state
	env := []string{"PATH=" + at("here") + ":" + os.Getenv("PATH"), "XDG_STATE_HOME=" + t.TempDir()}
	run := func(words ...string) (string, error) {
		return command(env, elsewhere, append([]string{"--at", "ssh://harbour" + i.dir}, words...)...)
	}
	out, err := run("status")
	require.Error(t, err)
	assert.Contains(t, out, "is not running there")
	out, err = run("start", "--background", "--trust")
	require.NoError(t, err, out)
	out, err = run("wait")
	require.NoError(t, err, out)
	assert.Contains(t, out, "CURRENT")
	typing := append(slices.Clone(env), "TYPING=8") // seconds, longer than any silence: a password
	out, err = command(typing, elsewhere, "--at", "ssh://harbour"+i.dir, "status")
	require.NoError(t, err, out)
	out, err = run("restart", "fares/api")
	require.NoError(t, err, out)
	out, err = run("logs", "seed")
	require.NoError(t, err, out)
	assert.Contains(t, out, "berths: 3 lines")
	for _, words := range [][]string{
		{"check"}, {"logs", "--session", "last"}, {"--at", "ssh://-oProxyCommand=touch/x", "status"},
		{"--at", "http://harbour/x", "status"}, {"--at", "ssh://harbour" + elsewhere, "status"},
	} {
		out, err = run(words...)
		require.Error(t, err, "%q: %s", words, out)
	}

	// The screen shows locations of the other machine, and forwards its addresses.
	browser := at("here/browse")
	write("here/browse", "#!/bin/sh\necho \"$1\" > "+at("browsed")+"\n", 0o755)
	s := openScreen(t, 158, 46, append(env, "BROWSER="+browser, "EDITOR=nano"), elsewhere, build(t), "--at",
		"ssh://harbour"+i.dir, "attach")
	s.shows(`CURRENT +all 6 run`)
	s.choose("web/server")
	s.press("b")
	var local string
	require.True(t, holds(patience, func() bool {
		data, _ := os.ReadFile(at("browsed"))
		local = strings.TrimSpace(string(data))
		return local != ""
	}))
	assert.NotContains(t, local, fmt.Sprint(":", i.ports["54344"], "/"), "that port is in use here")
	answer, err := http.Get(local)
	require.NoError(t, err)
	page, err := io.ReadAll(answer.Body)
	answer.Body.Close()
	require.NoError(t, err)
	assert.Contains(t, string(page), "Island line 1")
	s.press("q")
	s.shows(`leave`)
	s.press("Enter")
	out, err = run("stop", "--all")
	require.NoError(t, err, out)
}
