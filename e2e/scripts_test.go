// Package e2e tests the real program: its command line by scripts, its screen in
// a terminal.
package e2e

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/testscript"

	"omnivigil/internal/api/socket"
	"omnivigil/internal/face/cli"
	"omnivigil/internal/store/paths"
)

func TestMain(m *testing.M) {
	testscript.Main(cleaned{m}, map[string]func(){"omnivigil": func() { os.Exit(cli.Main()) }, "ssh": slowLink})
}

// cleaned removes what build has made, after all tests.
type cleaned struct{ *testing.M }

func (c cleaned) Run() int {
	defer func() { os.RemoveAll(binaries) }()
	code := c.M.Run()
	if place, err := paths.Place("omnivigil.toml"); err == nil { // the projects are gone by now
		socket.SweepLocks(filepath.Dir(place.Lock))
	}
	return code
}

// TestScripts runs testdata/*.txtar. In addition to testscript's own commands there are
//
//	until FILE REGEXP           waits until the file has such a line, at most 15 s
//	until-says REGEXP COMMAND   runs the command until its output has such a line, at most 15 s
//
// and the variables PORT1 and PORT2, of ports that no process listens on.
func TestScripts(t *testing.T) {
	testscript.Run(t, testscript.Params{
		Dir: "testdata",
		Setup: func(env *testscript.Env) error {
			env.Setenv("XDG_STATE_HOME", env.WorkDir+"/.state")
			env.Setenv("HOME", env.WorkDir)
			env.Setenv("XDG_RUNTIME_DIR", "")
			env.Setenv("GOCACHE", goCache(t))
			env.Defer(func() { // background processes of a failed script
				// one with settings, one that was typed
				for _, project := range [][]string{{"-f", env.WorkDir + "/omnivigil.toml"}, {}} {
					stop := exec.Command(build(t), append([]string{"stop", "--all"}, project...)...)
					stop.Dir = env.WorkDir
					stop.Env = append(os.Environ(), "XDG_STATE_HOME="+env.WorkDir+"/.state", "XDG_RUNTIME_DIR=")
					stop.Run()
				}
			})
			for i, port := range freePorts(2) {
				env.Setenv(fmt.Sprintf("PORT%d", i+1), fmt.Sprint(port))
			}
			return nil
		},
		Cmds: map[string]func(*testscript.TestScript, bool, []string){"until": until, "until-says": untilSays},
	})
}

// freePorts asks the system for free ports. They are held together, so that all differ, and then released.
func freePorts(n int) []int {
	var ports []int
	for range n {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			panic(err)
		}
		defer l.Close()
		ports = append(ports, l.Addr().(*net.TCPAddr).Port)
	}
	return ports
}

func until(ts *testscript.TestScript, neg bool, args []string) {
	if neg || len(args) != 2 {
		ts.Fatalf("usage: until FILE REGEXP")
	}
	want, err := regexp.Compile("(?m)" + args[1])
	ts.Check(err)
	file := ts.MkAbs(args[0])
	var data []byte
	for limit := time.Now().Add(15 * time.Second); time.Now().Before(limit); time.Sleep(5 * time.Millisecond) {
		if data, _ = os.ReadFile(file); want.Match(data) {
			return
		}
	}
	ts.Fatalf("%s never had a line like %q:\n%s", args[0], args[1], data)
}

func untilSays(ts *testscript.TestScript, neg bool, args []string) {
	if neg || len(args) < 2 {
		ts.Fatalf("usage: until-says REGEXP COMMAND")
	}
	want, err := regexp.Compile("(?m)" + args[0])
	ts.Check(err)
	said := ""
	for limit := time.Now().Add(15 * time.Second); time.Now().Before(limit); time.Sleep(20 * time.Millisecond) {
		ts.Exec(args[1], args[2:]...)
		if said = ts.ReadFile("stdout"); want.MatchString(said) {
			return
		}
	}
	ts.Fatalf("%q never said %q:\n%s", args[1:], args[0], said)
}
