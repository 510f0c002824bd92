// Package e2e tests the real program: its command line by scripts, its screen in
// a terminal.
package e2e

import (
	"os"
	"regexp"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/testscript"

	"omnivigil/internal/cli"
)

func TestMain(m *testing.M) {
	testscript.Main(m, map[string]func(){"omnivigil": func() { os.Exit(cli.Main()) }})
}

// TestScripts runs testdata/*.txtar. Beside testscript's own commands there is
//
//	until FILE REGEXP   waits until the file has such a line, at most 15 s
func TestScripts(t *testing.T) {
	testscript.Run(t, testscript.Params{
		Dir: "testdata",
		Setup: func(env *testscript.Env) error {
			env.Setenv("XDG_STATE_HOME", env.WorkDir+"/.state")
			env.Setenv("HOME", env.WorkDir)
			return nil
		},
		Cmds: map[string]func(*testscript.TestScript, bool, []string){"until": until},
	})
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
