package e2e

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const ferryTest = `package ferry

import "testing"

func TestTide(t *testing.T) {
	if Tide() != 3 {
		t.Fatal("the water is low")
	}
}

func TestBerth(t *testing.T) { t.Log("berth three is free") }
`

// TestOn debugs a failing test of a module without a settings file: with a flag passed through, then with one test's
// name added on the way, then without.
func TestOn(t *testing.T) {
	t.Parallel()
	program, dir := build(t), t.TempDir()
	for name, text := range map[string]string{
		"go.mod": "module ferry\n\ngo 1.26\n", "tide_test.go": ferryTest,
		"tide.go": "package ferry\n\nfunc Tide() int { return 2 }\n",
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	env := []string{"XDG_STATE_HOME=" + t.TempDir(), "XDG_RUNTIME_DIR=" + t.TempDir(), "GOCACHE=" + goCache(t)}
	s := openScreen(t, 140, 40, env, dir, program, "on", "--", "go", "test", "-count=1", "./...")
	s.shows(`BROKEN +test: 1 test failing: TestTide`)
	s.shows(`the water is low`)

	edit(t, dir+"/tide.go", "return 2", "return 3")
	s.shows(`CURRENT +test \(run 2\) runs the code saved`)

	s.press("a")
	s.shows(`go test -count=1 \./\.\.\.`)
	s.press("--", "-v -run 'TestB.*'", "Enter")
	s.shows(`CURRENT +test \(run 3\).*; with -v -run 'TestB\.\*'`)
	s.shows(`berth three is free`)

	edit(t, dir+"/tide.go", "return 3", "return 4")
	text := s.shows(`CURRENT +test \(run 4\).*; with -v -run`) // that test is not among those that run
	assert.NotContains(t, text, "BROKEN")

	s.press("c")
	s.shows(`BROKEN +test: 1 test failing.*: TestTide.*; with -v -run`)
	s.press("a", "Up")
	s.shows(`-run 'TestB.*'.*run with them`)
	s.press("Escape")
	s.shows(`[?] help`) // otherwise the two would be one key
	s.press("d")
	s.shows(`ripple \d+: you took the added arguments away`)
	s.shows(`BROKEN +test: 1 test failing.*: TestTide +`)
	s.press("q", "q")
	s.shows(`exit code 0`)

	again := openScreen(t, 140, 40, env, dir, program, "on", "--", "go", "test", "./...")
	again.shows(`BROKEN`)
	again.press("a", "Up")
	again.shows(`go test \./\.\.\. +-v -run 'TestB.*'.*run with them`)
	again.press("Escape")
	again.shows(`[?] help`)
	again.press("q", "q")
	again.shows(`exit code 0`)
}

// goCache keeps what is built for other tests and in other runs.
func goCache(t testing.TB) string {
	if folder := os.Getenv("GOCACHE"); folder != "" {
		return folder
	}
	folder, err := os.UserCacheDir()
	require.NoError(t, err)
	return filepath.Join(folder, "go-build")
}

// TestOwnSettings changes a key in the personal file. An edit of it takes effect at once.
func TestOwnSettings(t *testing.T) {
	t.Parallel()
	program, dir, config := build(t), t.TempDir(), t.TempDir()
	require.NoError(t, os.WriteFile(dir+"/omnivigil.toml", []byte("[task.tides]\nrun = \"true\"\n"), 0o644))
	require.NoError(t, os.MkdirAll(config+"/omnivigil", 0o755))
	own := func(text string) {
		require.NoError(t, os.WriteFile(config+"/omnivigil/config.toml", []byte(text), 0o644))
	}
	own("[keys]\nrestart = [\"x\", \"f5\"]\n")
	env := []string{"XDG_STATE_HOME=" + t.TempDir(), "XDG_RUNTIME_DIR=" + t.TempDir(), "XDG_CONFIG_HOME=" + config}
	s := openScreen(t, 158, 46, env, dir, program, "start", "--trust")
	s.shows(`CURRENT +tides \(run 1\)`)
	s.press("x")
	s.shows(`CURRENT +tides \(run 2\)`)
	s.press("?")
	s.shows(`x f5 +restart or rerun it`)
	s.press("?")

	own("[keys]\nrestart = \"X\"\nstop = \"X\"\n")
	s.shows(`your own settings: the key X is that of restart and of stop`)
	own("[keys]\nrestart = \"X\"\n")
	s.shows(`X restart`)
	s.press("X")
	s.shows(`CURRENT +tides \(run 3\)`)
	s.press("q", "q")
	s.shows(`exit code 0`)
}
