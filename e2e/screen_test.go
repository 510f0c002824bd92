package e2e

import (
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// build compiles the program, once for all tests.
func build(t testing.TB) string {
	t.Helper()
	program, err := built()
	require.NoError(t, err, program)
	return program
}

var (
	binaries string // the directory of what is built
	built    = sync.OnceValues(func() (string, error) {
		var err error
		if binaries, err = os.MkdirTemp("", "omnivigil-"); err != nil {
			return "", err
		}
		program := filepath.Join(binaries, "omnivigil")
		cmd := exec.Command("go", "build", "-o", program, "omnivigil/cmd/omnivigil")
		cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
		if out, err := cmd.CombinedOutput(); err != nil {
			return string(out), err
		}
		return program, nil
	})
)

// screen is a terminal with the program in it.
type screen struct {
	t      *testing.T
	socket string
}

func openScreen(t *testing.T, width, height int, env []string, dir string, words ...string) *screen {
	t.Helper()
	if _, err := exec.LookPath("tmux"); err != nil {
		t.Skip("tmux is not installed")
	}
	s := &screen{t, filepath.Join(t.TempDir(), "tmux")}
	args := []string{
		"-S",
		s.socket,
		"-f",
		"/dev/null",
		"new-session",
		"-d",
		"-x",
		fmt.Sprint(width),
		"-y",
		fmt.Sprint(height),
		"-c",
		dir,
	}
	for _, e := range env {
		args = append(args, "-e", e)
	}
	// The shell stays, so that what the program leaves in the terminal is visible.
	args = append(args, strings.Join(words, " ")+"; echo exit code $?; exec sleep 1000")
	out, err := exec.Command("tmux", args...).CombinedOutput()
	require.NoError(t, err, string(out))
	t.Cleanup(func() { exec.Command("tmux", "-S", s.socket, "kill-server").Run() })
	return s
}

func (s *screen) text() string {
	out, _ := exec.Command("tmux", "-S", s.socket, "capture-pane", "-p").Output()
	return string(out)
}

// shows waits until the screen matches an expression.
func (s *screen) shows(pattern string) string {
	s.t.Helper()
	re := regexp.MustCompile(pattern)
	var text string
	if !holds(patience, func() bool { text = s.text(); return re.MatchString(text) }) {
		s.t.Fatalf("the screen never showed %q:\n%s", pattern, text)
	}
	return text
}

func (s *screen) press(keys ...string) {
	s.t.Helper()
	out, err := exec.Command("tmux", append([]string{"-S", s.socket, "send-keys"}, keys...)...).CombinedOutput()
	require.NoError(s.t, err, string(out))
}

// edit replaces text in a file, as a user would.
//
// The file is replaced as a whole: on a busy machine, truncating and writing it can be two saves.
func edit(t *testing.T, file, before, after string) {
	t.Helper()
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Contains(t, string(data), before)
	saved := filepath.Join(t.TempDir(), "saved")
	require.NoError(t, os.WriteFile(saved, []byte(strings.Replace(string(data), before, after, 1)), 0o644))
	require.NoError(t, os.Rename(saved, file))
}

// get sends the request of a browser that navigates to a page.
func get(url string) string {
	r, err := http.NewRequest(http.MethodGet, url, nil)
	if err != nil {
		return err.Error()
	}
	r.Header.Set("Accept", "text/html, */*")
	resp, err := http.DefaultClient.Do(r)
	if err != nil {
		return err.Error()
	}
	defer resp.Body.Close()
	body, _ := io.ReadAll(resp.Body)
	return strings.TrimSpace(string(body))
}

// answers waits until a page has a text.
func answers(t *testing.T, url, pattern string) {
	t.Helper()
	re := regexp.MustCompile(pattern)
	require.Eventually(t, func() bool { return re.MatchString(get(url)) }, patience, 20*time.Millisecond,
		"%s never answered %q", url, pattern)
}

// patience is how long a test waits for what comes at once, unless the machine is very busy.
const patience = 3 * time.Minute

// Pauses between two looks: a look costs a process or more, and what is not there soon takes longer.
const (
	firstPause   = 15 * time.Millisecond
	longestPause = 60 * time.Millisecond
)

// holds polls a condition, and reports whether it became true within the limit.
func holds(limit time.Duration, condition func() bool) bool {
	pause := firstPause
	for began := time.Now(); !condition(); time.Sleep(pause) {
		if time.Since(began) > limit {
			return false
		}
		pause = min(pause*5/4, longestPause)
	}
	return true
}

// noneLeft waits until no process has the mark in its environment.
func noneLeft(t *testing.T, mark string) {
	t.Helper()
	var left []string
	none := func() bool {
		left = nil
		procs, _ := filepath.Glob("/proc/[0-9]*/environ")
		for _, p := range procs {
			if data, err := os.ReadFile(p); err == nil && strings.Contains(string(data), mark) &&
				strings.Contains(string(data), "OMNIVIGIL_UNIT=") {
				cmdline, _ := os.ReadFile(filepath.Join(filepath.Dir(p), "cmdline"))
				left = append(left, string(cmdline))
			}
		}
		return len(left) == 0
	}
	require.True(t, holds(patience, none), "left: %q", left)
}

func TestDemoOnTheScreen(t *testing.T) {
	t.Parallel()
	temp := t.TempDir()
	s := openScreen(t, 158, 46, []string{"XDG_STATE_HOME=" + temp + "/state", "TMPDIR=" + temp}, temp, build(t), "demo")
	s.shows(`CURRENT +9 of 10 run, started in`)

	folders, err := filepath.Glob(temp + "/omnivigil-demo-*/saltmarsh-ferries")
	require.NoError(t, err)
	require.Len(t, folders, 1)
	file := func(name string) string { return filepath.Join(folders[0], name) }
	settings, err := os.ReadFile(file("omnivigil.toml"))
	require.NoError(t, err)
	port := regexp.MustCompile(`ready = \{ port = (\d+) \}`).FindSubmatch(settings)
	rules := "http://127.0.0.1:" + string(port[1]) + "/rules"
	answers(t, rules, `0.60 m under keel`)

	// A save restarts the units that it affects, and the new behavior is there.
	edit(t, file("berths/rules.toml"), "under_keel = 0.6", "under_keel = 0.9")
	s.shows(`ripple 2: current after`)
	s.shows(`run 2 restarts: berths/rules.toml changed`)
	s.shows(`CURRENT +9 of 10 run the code saved`)
	answers(t, rules, `0.90 m under keel`)

	// A follower of a broken task keeps its old run and tells why.
	edit(t, file("fares/fares.csv"), "4.20", "four")
	s.shows(`STALE +tickets still runs the code from before .*: fares failed`)
	edit(t, file("fares/fares.csv"), "four", "4.30")
	s.shows(`CURRENT +9 of 10 run the code saved`)

	// A broken file breaks its unit; the fix repairs it.
	edit(t, file("berths/rules.toml"), "under_keel = 0.9", "under_keel = much")
	s.shows(`BROKEN +berths crashed \(exit 1\)`)
	s.shows(`berths +service crashed`)
	edit(t, file("berths/rules.toml"), "under_keel = much", "under_keel = 0.7")
	s.shows(`CURRENT`)
	answers(t, rules, `0.70 m under keel`)

	// Keys act on the selected unit.
	s.press("Up", "Up", "Down") // tides is first, berths below it
	s.shows(`▸ berths`)
	s.press("r")
	s.shows(`run 5 restarts: you asked`)
	s.press("s")
	s.shows(`berths +service stopped`)
	require.NotContains(t, get(rules), "keel")
	s.press("r")
	s.shows(`berths +service ready`)
	s.press("Enter")
	s.shows(`only berths`)
	s.press("Enter")
	s.shows(`all output`)

	// The time cursor and the stream move together; one key returns to now.
	s.press("PPage")
	s.shows(`\d+ lines since`)
	s.shows(`at \d\d:\d\d:\d\d`)
	s.press(".")
	s.shows(`following`)
	s.press("?")
	s.shows(`leave: stop everything`)
	s.press("?")

	// Why a unit is in its state, and what a save would set off.
	s.press("y")
	s.shows(`berths is ready and current`)
	s.press("q")
	s.shows(`following`)
	s.press("M", "/", "fares/fares.csv", "Enter")
	s.shows(`fares reruns: it matches "fares/fares.csv"`)
	s.shows(`2. tickets restarts: fares finished again`)
	s.press("L")
	s.shows(`following`)

	// Reactions can be paused; what changes meanwhile is stale until they are resumed.
	s.press("p")
	s.shows(`berths +service paused`)
	edit(t, file("berths/rules.toml"), "under_keel = 0.7", "under_keel = 0.5")
	s.shows(`STALE +berths still runs the code from before .*: berths is paused`)
	s.press("p")
	s.shows(`CURRENT`)
	answers(t, rules, `0.50 m under keel`)

	// A broken edit of the settings changes nothing and is shown with its location.
	edit(t, file("omnivigil.toml"), "follows =", "folows =")
	s.shows(`settings +omnivigil.toml:\d+:1: unknown key "folows".*did you mean "follows"`)
	s.shows(`STALE +the settings just saved have an error and are not used`)
	edit(t, file("omnivigil.toml"), "folows =", "follows =")
	s.shows(`CURRENT`)

	s.press("q", "q")
	s.shows(
		`Saltmarsh Ferries (?s)ran for .*: 6 saves, \d+ runs, .*The longest from a save to rest: .*stopped: .*Logs:`,
	)
	s.shows(`exit code 0`)
	noneLeft(t, temp)
	_, err = os.Stat(folders[0])
	require.ErrorIs(t, err, os.ErrNotExist)
}

func TestSizesAndFirstQuestion(t *testing.T) {
	t.Parallel()
	program := build(t)
	for _, size := range [][2]int{{158, 46}, {80, 24}, {60, 15}, {30, 5}} {
		t.Run(fmt.Sprintf("%dx%d", size[0], size[1]), func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			require.NoError(t, os.WriteFile(dir+"/omnivigil.toml", []byte(`
[service.tides]
run = "echo a line that is much longer than most terminals are wide, so that it has to be cut; sleep 1000"
`), 0o644))
			s := openScreen(t, size[0], size[1], []string{"XDG_STATE_HOME=" + dir + "/state"}, dir, program)
			s.shows(`y/N`)
			s.press("y", "Enter")
			text := s.shows(`CURRENT`)
			for _, row := range strings.Split(text, "\n") {
				require.LessOrEqual(t, len([]rune(row)), size[0])
			}
			s.press("q", "q")
			s.shows(`exit code 0`)
			noneLeft(t, dir)
		})
	}
}
