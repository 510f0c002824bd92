//go:build linux && (amd64 || arm64)

package observe

import (
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// TestMain lets the test binary be a program that is observed.
func TestMain(m *testing.M) {
	if act := os.Getenv("OBSERVED"); act != "" {
		os.Exit(acts[act]())
	}
	os.Exit(m.Run())
}

// acts are programs that are observed; their result is the exit status.
var acts = map[string]func() int{
	"listen": func() int {
		tcp, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return 1
		}
		other, err := net.Listen("unix", "quay.sock")
		if err != nil {
			return 2
		}
		udp, err := net.ListenPacket("udp", "[::1]:41739")
		if err != nil {
			return 3
		}
		defer udp.Close()
		for _, l := range []net.Listener{tcp, other} {
			c, err := net.Dial(l.Addr().Network(), l.Addr().String())
			if err != nil {
				return 4
			}
			c.Close()
		}
		os.WriteFile("port", []byte(tcp.Addr().String()), 0o644)
		return 0
	},
	"ring": func() int {
		_, _, number := unix.Syscall(unix.SYS_IO_URING_SETUP, 1, 0, 0)
		return int(number)
	},
	"privileged": func() int {
		log := NewLog("/nowhere", nil)
		cmd := exec.Command("/bin/sh", "-c", "su --version; exit 7")
		o, err := Prepare(cmd)
		if err == nil {
			err = cmd.Start()
		}
		if err == nil {
			err = o.Attach(log)
		}
		if err != nil {
			fmt.Println(err)
			return 1
		}
		if cmd.Wait(); cmd.ProcessState.ExitCode() != 7 {
			return 2
		}
		for _, p := range log.Seen().Programs {
			if p.Privileged {
				fmt.Println("privileged:", filepath.Base(p.Path))
			}
		}
		return 0
	},
	"threads": func() int { // calls from many threads and children at once
		done := make(chan error)
		for i := range 40 {
			go func() {
				runtime.LockOSThread()
				name := "t" + strconv.Itoa(i)
				err := os.WriteFile(name, []byte(name), 0o644)
				done <- errors.Join(err, exec.Command("cat", name).Run())
			}()
		}
		for range 40 {
			if <-done != nil {
				return 1
			}
		}
		return 0
	},
}

func act(t *testing.T, name, dir string) (Seen, error) {
	self, err := os.Executable()
	require.NoError(t, err)
	return observed(t, dir, []string{self}, append(os.Environ(), "OBSERVED="+name))
}

func tempDir(t *testing.T) string {
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	return dir
}

func TestAddresses(t *testing.T) {
	dir := tempDir(t)
	seen, err := act(t, "listen", dir)
	require.NoError(t, err)
	port, err := os.ReadFile(filepath.Join(dir, "port"))
	require.NoError(t, err)
	names := func(all []Address) (out []string) {
		for _, a := range all {
			out = append(out, a.String())
		}
		return out
	}
	assert.Equal(t, []string{dir + "/quay.sock", string(port), "[::1]:41739"}, names(seen.Listens))
	assert.Subset(t, names(seen.Connects), []string{dir + "/quay.sock", string(port)})
}

func TestManyThreads(t *testing.T) {
	seen, err := act(t, "threads", tempDir(t))
	require.NoError(t, err)
	for i := range 40 {
		at := slices.IndexFunc(seen.Paths, func(p Path) bool { return p.Name == "t"+strconv.Itoa(i) })
		require.GreaterOrEqual(t, at, 0)
		assert.True(t, seen.Paths[at].Access.Has(Written|Read))
	}
}

// TestStaysTheSame checks what a process notices of being observed.
func TestStaysTheSame(t *testing.T) {
	seen, err := act(t, "ring", tempDir(t))
	var exit *exec.ExitError
	require.ErrorAs(t, err, &exit)
	assert.Equal(t, int(unix.ENOSYS), exit.ExitCode(), "io_uring is not available")
	assert.Len(t, seen.Programs, 1)
	_, err = observed(t, tempDir(t), []string{"sh", "-c", "kill -USR1 $$; sleep 60"}, os.Environ())
	require.ErrorAs(t, err, &exit)
	assert.Equal(t, unix.SIGUSR1, exit.Sys().(syscall.WaitStatus).Signal())
	dir := tempDir(t)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "text"), []byte("no program"), 0o755))
	cmd := exec.Command(filepath.Join(dir, "text"))
	o, err := Prepare(cmd)
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	err = o.Attach(NewLog(dir, nil))
	require.ErrorIs(t, err, unix.ENOEXEC)
	assert.Contains(t, err.Error(), "text")
	assert.NotErrorIs(t, err, ErrUnavailable)
	cmd.Wait()
}

// TestNamesPrivileged lets a user without the privilege to set filters observe a program with the setuid bit.
func TestNamesPrivileged(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("not tested: only root can become another user")
	}
	need(t, "su")
	dir, err := os.MkdirTemp("", "observe")
	require.NoError(t, err)
	defer os.RemoveAll(dir)
	require.NoError(t, os.Chmod(dir, 0o755))
	self, err := os.ReadFile("/proc/self/exe")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(dir+"/observer", self, 0o755))
	cmd := exec.Command(dir + "/observer")
	cmd.Dir, cmd.Env = dir, append(os.Environ(), "OBSERVED=privileged")
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Contains(t, string(out), "privileged: su\n")
}

// TestOneObserver observes a program that observes another one, which the kernel refuses.
func TestOneObserver(t *testing.T) {
	self, err := os.Executable()
	require.NoError(t, err)
	cmd := exec.Command(self)
	cmd.Env = append(os.Environ(), "OBSERVED=privileged")
	out := &strings.Builder{}
	cmd.Stdout = out
	o, err := Prepare(cmd)
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	require.NoError(t, o.Attach(NewLog(tempDir(t), nil)))
	require.Error(t, cmd.Wait())
	assert.Contains(t, out.String(), ErrUnavailable.Error()+": another program already uses seccomp notifications")
}

// TestObservesDebuggers observes a program that traces another one, and what that does.
func TestObservesDebuggers(t *testing.T) {
	need(t, "strace", "cat")
	dir := tempDir(t)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "tides.csv"), []byte("low"), 0o644))
	seen, err := observed(t, dir, []string{"strace", "-f", "-o", "trace", "sh", "-c", "cat tides.csv"}, os.Environ())
	require.NoError(t, err)
	activity := activityOf(dir, seen)
	assert.True(t, activity["trace: wrote"] && activity["tides.csv: seen"])
}

// TestOtherABI observes a program of the 32-bit ABI of the same machine, if the kernel runs such.
func TestOtherABI(t *testing.T) {
	need(t, "go")
	dir := tempDir(t)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "quay.go"), []byte(`package main
import ("net"; "os"; "os/exec")
func main() {
	os.ReadFile("tides.csv")
	os.WriteFile("out", nil, 0o644)
	os.Mkdir("dir", 0o755)
	os.Rename("out", "dir/out")
	os.ReadDir("dir")
	net.Listen("tcp", "127.0.0.1:41738")
	net.Dial("tcp", "127.0.0.1:41738")
	exec.Command("true").Run()
}`), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "tides.csv"), nil, 0o644))
	build := exec.Command("go", "build", "-o", "quay", "quay.go")
	build.Dir = dir
	build.Env = append(os.Environ(), "GOARCH="+map[string]string{"amd64": "386", "arm64": "arm"}[runtime.GOARCH],
		"CGO_ENABLED=0")
	out, err := build.CombinedOutput()
	require.NoError(t, err, string(out))
	seen, err := observed(t, dir, []string{filepath.Join(dir, "quay")}, os.Environ())
	if errors.Is(err, unix.ENOEXEC) {
		t.Skip("not tested: the kernel does not run 32-bit programs")
	}
	require.NoError(t, err)
	activity := activityOf(dir, seen)
	for _, one := range []string{"tides.csv: seen", "out: wrote", "out: removed", "dir: wrote", "dir/out: wrote",
		"dir: listed", "quay: ran"} {
		assert.True(t, activity[one], one)
	}
	assert.Len(t, seen.Programs, 2)
	require.Len(t, seen.Listens, 1)
	assert.Equal(t, "127.0.0.1:41738", seen.Listens[0].String())
	assert.Contains(t, fmt.Sprint(seen.Connects), "127.0.0.1:41738")
}

// TestNumbers compares the numbers of all calls with the tables of golang.org/x/sys/unix.
func TestNumbers(t *testing.T) {
	need(t, "go")
	dir, err := exec.Command("go", "list", "-m", "-f", "{{.Dir}}", "golang.org/x/sys").Output()
	require.NoError(t, err)
	number := regexp.MustCompile(`(?m)^\s+SYS_(\w+)\s+= (\d+)$`)
	for abi, arch := range []string{"amd64", "386", "arm64", "arm"} {
		text, err := os.ReadFile(filepath.Join(strings.TrimSpace(string(dir)), "unix", "zsysnum_linux_"+arch+".go"))
		require.NoError(t, err)
		known := map[string]int{}
		for _, m := range number.FindAllStringSubmatch(string(text), -1) {
			known[strings.ToLower(m[1])], _ = strconv.Atoi(m[2])
		}
		for _, c := range calls {
			want, is := known[c.name]
			if !is {
				want = none
			}
			assert.Equal(t, want, c.numbers[abi], "%s of %s", c.name, arch)
		}
	}
}

// FuzzArguments reads what may be in the memory of a process: addresses, and paths that are resolved.
func FuzzArguments(f *testing.F) {
	f.Add([]byte("\x02\x00\x10\x06\x7f\x00\x00\x01"), "a/../b/./c//")
	f.Add([]byte("\x01\x00quay.sock\x00"), "/..//../x")
	f.Add([]byte("\x0a\x00"), "link/../../link")
	root := f.TempDir()
	require.NoError(f, os.Symlink("link", root+"/link"))
	require.NoError(f, os.Symlink("../..", root+"/up"))
	f.Fuzz(func(t *testing.T, address []byte, path string) {
		if len(address) >= 2 {
			a := action{thread: os.Getpid()}
			a.sockaddr(address)
		}
		if len(path) >= unix.PathMax {
			return // memory.text returns no longer one
		}
		find := newFinder(root)
		for _, path := range []string{path, root + "/" + path, root + "/up/" + path} {
			if found, below := find.find(os.Getpid(), unix.AT_FDCWD, []byte(path), len(path)%2 == 0); below {
				require.True(t, filepath.IsLocal(found.name), found.name)
			}
		}
	})
}
