package repository

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestIgnoreFilesAsGitReadsThem creates random trees with random rules and compares the ignored files with those of
// git.
//
// OMNIVIGIL_TREES sets the number of trees.
func TestIgnoreFilesAsGitReadsThem(t *testing.T) {
	if _, err := exec.LookPath("git"); err != nil {
		t.Skip("git is not installed")
	}
	trees := 150
	if n, err := strconv.Atoi(os.Getenv("OMNIVIGIL_TREES")); err == nil {
		trees = n
	}
	seed := uint64(time.Now().UnixNano())
	r := rand.New(rand.NewPCG(seed, 0))
	asked := 0
	for n := range trees {
		root := t.TempDir()
		git(t, root, nil, "init", "-q")
		rules := randomRules(t, r, root)
		files := randomFiles(t, r, root)
		want := git(t, root, []byte(strings.Join(files, "\x00")), "check-ignore", "--no-index", "-z", "--stdin")
		ignored := map[string]bool{}
		for _, file := range strings.Split(string(want), "\x00") {
			ignored[file] = true
		}
		for _, file := range files {
			asked++
			got := new(Rules).ExcludedBy(path.Join(root, file))
			require.Equal(
				t,
				ignored[file],
				got != "",
				"seed %d, tree %d: %q, kept out by %q, in\n%s",
				seed,
				n,
				file,
				got,
				rules,
			)
		}
		os.RemoveAll(root)
	}
	t.Logf("%d trees, %d files", trees, asked)
}

// TestMain gives the user that runs the tests an ignore file.
func TestMain(m *testing.M) {
	home, err := os.MkdirTemp("", "home")
	if err != nil {
		panic(err)
	}
	ignore := filepath.Join(home, "ignore")
	os.WriteFile(ignore, []byte("*.mine\n!a/b/*.mine\n"), 0o644)
	os.WriteFile(filepath.Join(home, "gitconfig"), []byte("[core]\n\texcludesFile = "+ignore+"\n"), 0o644)
	for name, value := range map[string]string{"HOME": home, "XDG_CONFIG_HOME": home,
		"GIT_CONFIG_GLOBAL": filepath.Join(home, "gitconfig"), "GIT_CONFIG_SYSTEM": os.DevNull} {
		os.Setenv(name, value)
	}
	code := m.Run()
	os.RemoveAll(home)
	os.Exit(code)
}

func git(t *testing.T, dir string, input []byte, args ...string) []byte {
	t.Helper()
	c := exec.Command("git", args...)
	c.Dir, c.Stdin = dir, bytes.NewReader(input)
	c.Env = append(
		os.Environ(),
		"GIT_AUTHOR_NAME=Harbour",
		"GIT_AUTHOR_EMAIL=harbour@example.com",
		"GIT_COMMITTER_NAME=Harbour",
		"GIT_COMMITTER_EMAIL=harbour@example.com",
	)
	out, err := c.Output()
	if x, ok := err.(*exec.ExitError); ok && x.ExitCode() > 1 {
		t.Fatalf("git %s: %v: %s", strings.Join(args, " "), err, x.Stderr)
	}
	return out
}

func choose[T any](r *rand.Rand, from ...T) T { return from[r.IntN(len(from))] }

// randomGlob creates a rule from parts that have a meaning in combination.
func randomGlob(r *rand.Rand) string {
	var b strings.Builder
	b.WriteString(choose(r, "", "", "", "!", "!", "\\!", "#", "\\#"))
	for range 1 + r.IntN(4) {
		b.WriteString(
			choose(
				r,
				"a",
				"b",
				"ab",
				"*",
				"**",
				"?",
				"/",
				"/",
				"/",
				"**/",
				"/**",
				"a*",
				"*b",
				"[ab]",
				"[!a]",
				"[^b]",
				"[a-c]",
				"[]a]",
				"[[:alpha:]]",
				"[a",
				"\\a",
				"\\*",
				"é",
				" ",
				"c d",
				".",
				"*.",
				"***",
				"b/",
				"[a/b]",
				"\\",
				"\t",
				"[!-]",
				"[[:x:]]",
				"[\\]a]",
				"[b-\\c]",
				"*.mine",
			),
		)
	}
	b.WriteString(choose(r, "", "", "", "/", " ", "\\ ", "\r"))
	return b.String()
}

func randomRules(t *testing.T, r *rand.Rand, root string) string {
	var all strings.Builder
	for range 1 + r.IntN(4) {
		file := path.Join(choose(r, "", "", "a", "b", "a/b", "ab"), IgnoreFile)
		if r.IntN(5) == 0 {
			file = ".git/info/exclude"
		}
		var text strings.Builder
		text.WriteString(choose(r, "", "", "", "\ufeff"))
		for range 1 + r.IntN(5) {
			text.WriteString(randomGlob(r) + "\n")
		}
		require.NoError(t, os.MkdirAll(filepath.Join(root, path.Dir(file)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(root, file), []byte(text.String()), 0o644))
		fmt.Fprintf(&all, "%s: %q\n", file, text.String())
	}
	return all.String()
}

// randomFiles creates files and directories and returns their paths.
func randomFiles(_ *testing.T, r *rand.Rand, root string) []string {
	var files []string
	for range 30 {
		var parts []string
		for range 1 + r.IntN(4) {
			parts = append(
				parts,
				choose(
					r,
					"a",
					"b",
					"ab",
					"ba",
					"abc",
					"c d",
					"é",
					"a.b",
					"*",
					"#a",
					"!a",
					"a ",
					"-",
					"]a",
					"b\\",
					"\ta",
					"a.mine",
				),
			)
		}
		file := path.Join(parts...)
		if os.MkdirAll(filepath.Join(root, path.Dir(file)), 0o755) != nil {
			continue
		}
		if r.IntN(4) == 0 {
			os.Mkdir(filepath.Join(root, file), 0o755)
		} else if f, err := os.OpenFile(filepath.Join(root, file), os.O_CREATE|os.O_EXCL, 0o644); err == nil {
			f.Close()
		}
		files = append(files, file)
	}
	return files
}

// FuzzIgnoreFile parses arbitrary text as an ignore file.
func FuzzIgnoreFile(f *testing.F) {
	f.Add([]byte("*.log\n!keep.log\n/build/**/x[a-z]\\ \n"), "build/a/xb")
	f.Add([]byte("[[:alpha:]\xff]**/\\"), "a\xffb/c")
	f.Fuzz(func(_ *testing.T, text []byte, file string) {
		s := &Scope{base: "/r", rules: parseIgnore(text, IgnoreFile)}
		s.Ignores("/r/"+file, false)
		s.Ignores("/r/"+file, true)
	})
}
