package e2e

import (
	"encoding/json"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// bundler is a project whose tasks make files, programs, links and empty directories, each from the one before. Their
// commands are the tasks' own and those of a clean build.
var bundler = []struct{ name, command, more string }{
	{"rates", "mkdir -p gen; rm -f gen/*.js; while read -r zone price; do echo \"export const z$zone = $price;\" " +
		"> gen/$zone.js; done < rates.txt", `watch = ["rates.txt"]
outputs = ["gen/**"]`},
	{"pages", "rm -rf dist/pages; mkdir -p dist/pages/empty dist/bin; cat pages/*.txt gen/*.js > dist/pages/all.js; " +
		"ln -s all.js dist/pages/index.js; printf '#!/bin/sh\\ncat all.js\\n' > dist/bin/show; chmod 750 dist/bin/show",
		`watch = ["pages/*.txt"]
follows = ["rates"]
outputs = ["dist/pages/**", "dist/bin/**"]`},
	{"sum", "cksum dist/pages/all.js | cut -d' ' -f1 > dist/sum; if grep -q 1 dist/sum; " +
		"then date -u -d @0 > dist/one; else rm -f dist/one; fi", `follows = ["pages"]
outputs = ["dist/sum", "dist/one"]`},
}

// bundling is a project in git with that bundler.
type bundling struct {
	*testing.T
	dir, state, runs string
	random           *rand.Rand
	edits            int
}

func (b *bundling) omnivigil(args ...string) (string, error) {
	c := exec.Command(build(b), args...)
	c.Dir, c.Env = b.dir, append(os.Environ(), "XDG_STATE_HOME="+b.state)
	out, err := c.CombinedOutput()
	return string(out), err
}

func (b *bundling) git(args ...string) {
	who := []string{"-c", "user.name=berth", "-c", "user.email=berth@example.org"}
	c := exec.Command("git", append(who, args...)...)
	c.Dir = b.dir
	out, err := c.CombinedOutput()
	require.NoError(b, err, "%s", out)
}

func (b *bundling) write(name, text string) {
	file := filepath.Join(b.dir, name)
	require.NoError(b, os.MkdirAll(filepath.Dir(file), 0o755))
	require.NoError(b, os.WriteFile(file, []byte(text), 0o644))
}

// start starts the project, or starts it again after it was killed.
func (b *bundling) start() {
	out, err := b.omnivigil("start", "--background", "--trust")
	require.NoError(b, err, out)
}

// kill kills the supervisor.
func (b *bundling) kill() {
	out, err := b.omnivigil("status", "--json")
	require.NoError(b, err, out)
	var snap struct{ Project struct{ Supervisor int } }
	require.NoError(b, json.Unmarshal([]byte(out), &snap))
	require.NoError(b, syscall.Kill(snap.Project.Supervisor, syscall.SIGKILL))
	require.True(b, holds(patience, func() bool {
		_, err := b.omnivigil("status")
		return err != nil
	}))
}

// act does something that a developer does.
func (b *bundling) act() string {
	switch b.random.IntN(10) {
	case 0, 1, 2:
		b.edits++
		b.write("rates.txt", fmt.Sprintf("1 %d\n%d 7\n", 2+b.random.IntN(3), 2+b.random.IntN(2)))
		return "edit the rates"
	case 3, 4:
		b.write("pages/"+strconv.Itoa(b.random.IntN(2))+".txt", fmt.Sprintln("// page", b.random.IntN(3)))
		return "edit a page"
	case 5, 6:
		branch := []string{"east", "west", "north"}[b.random.IntN(3)]
		b.git("checkout", "-q", "-f", branch)
		b.git("clean", "-q", "-f", "pages")
		return "switch to " + branch
	case 7:
		what := []string{"gen", "dist", "dist/pages", "dist/sum"}[b.random.IntN(4)]
		require.True(b, holds(patience, func() bool { // it may be being made
			return os.RemoveAll(filepath.Join(b.dir, what)) == nil
		}))
		return "remove " + what
	case 8:
		b.write("dist/pages/own.txt", "of the user\n")
		return "add a file to the outputs"
	}
	b.kill()
	b.start()
	return "kill the supervisor"
}

// made are the outputs: the contents, modes and targets, by their paths.
func made(t *testing.T, dir string) map[string]string {
	all := map[string]string{}
	for _, top := range []string{"gen", "dist"} {
		require.NoError(t, filepath.WalkDir(filepath.Join(dir, top), func(file string, e fs.DirEntry, err error) error {
			if err != nil { // it was just removed
				return nil
			}
			rel, _ := filepath.Rel(dir, file)
			info, err := e.Info()
			switch {
			case err != nil || e.Name() == "own.txt":
			case e.Type()&fs.ModeSymlink != 0:
				all[rel], err = os.Readlink(file)
			case e.IsDir():
				all[rel] = "a directory"
			default:
				var data []byte
				data, err = os.ReadFile(file)
				all[rel] = info.Mode().String() + " " + string(data)
			}
			return err
		}))
	}
	return all
}

// clean returns the outputs of a build in an empty directory with the same sources.
func (b *bundling) clean() map[string]string {
	dir := b.TempDir()
	inputs := []string{filepath.Join(b.dir, "rates.txt"), filepath.Join(b.dir, "pages")}
	out, err := exec.Command("cp", append([]string{"-r", "-t", dir}, inputs...)...).CombinedOutput()
	require.NoError(b, err, "%s", out)
	for _, task := range bundler {
		c := exec.Command("sh", "-c", task.command)
		c.Dir = dir
		out, err := c.CombinedOutput()
		require.NoError(b, err, "%s", out)
	}
	return made(b.T, dir)
}

// TestRestoredAsBuilt makes random edits, switches of branches, cleanups and kills in a project whose results are
// restored. After each, when all is at rest, its outputs are those of a clean build. OMNIVIGIL_RESTORES is how many,
// and OMNIVIGIL_SEED what happens.
func TestRestoredAsBuilt(t *testing.T) {
	t.Parallel()
	steps, seed := 25, uint64(time.Now().UnixNano())
	if n, err := strconv.Atoi(os.Getenv("OMNIVIGIL_RESTORES")); err == nil {
		steps = n
	}
	if n, err := strconv.ParseUint(os.Getenv("OMNIVIGIL_SEED"), 10, 64); err == nil {
		seed = n
	}
	t.Logf("OMNIVIGIL_SEED=%d", seed)
	b := &bundling{T: t, dir: t.TempDir(), state: t.TempDir(), random: rand.New(rand.NewPCG(seed, 1))}
	b.runs = filepath.Join(b.state, "runs")
	settings := ""
	for _, task := range bundler {
		command := "echo >> " + b.runs + "; " + task.command
		settings += fmt.Sprintf("[task.%s]\nrun = %q\n%s\nreuse = true\n", task.name, command, task.more)
	}
	b.write("omnivigil.toml", settings)
	b.write(".gitignore", "gen\ndist\n")
	b.git("init", "-q", "-b", "east")
	for n, branch := range []string{"east", "west", "north"} {
		if n > 0 {
			b.git("checkout", "-q", "-b", branch)
		}
		b.write("rates.txt", fmt.Sprintf("1 %d\n2 5\n", n+3))
		b.write("pages/"+branch+".txt", "// "+branch+"\n")
		b.git("add", "-A")
		b.git("commit", "-qm", branch)
	}
	b.start()
	t.Cleanup(func() { b.omnivigil("stop", "--all") })
	restored := 0
	for n := range steps {
		what := ""
		for range 1 + b.random.IntN(2) {
			what += b.act() + "; "
		}
		want := b.clean()
		var out string
		var err error
		holds(patience, func() bool { // a removal of outputs is no save: it is noticed a moment later
			out, err = b.omnivigil("wait")
			return err == nil && assert.ObjectsAreEqual(want, made(t, b.dir))
		})
		require.NoError(t, err, "step %d, %s\n%s", n, what, out)
		require.Equal(t, want, made(t, b.dir), "step %d, %s\n%s", n, what, out)
		log, _ := b.omnivigil("logs")
		restored = max(restored, strings.Count(log, " restored from "))
	}
	if steps >= 100 {
		assert.Positive(t, restored)
	}
	runs, err := os.ReadFile(b.runs)
	require.NoError(t, err)
	t.Logf("%d runs, at least %d restored", len(runs), restored)
}
