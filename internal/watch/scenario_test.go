package watch

import (
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/txtar"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/watch/pattern"
	"omnivigil/internal/watch/stamp"
)

var update = flag.Bool("update", false, "write what is heard into the scenarios")

// TestScenarios plays every file in testdata/scenarios: interests, then commands for the shell ("$ ...") with what is
// reported after each, in a directory with the files that follow. An interest is a line "KEY: PATTERN...", with
// !PATTERN for what it ignores and the words unignored, skip_unchanged, at_once (a debounce of 0). A report is one
// line "change N" for each change, N counting them within a command, with "KEY PATH WHAT" below it; "KEY as before"
// is an Unchanged.
func TestScenarios(t *testing.T) {
	files, err := filepath.Glob("testdata/scenarios/*.txt")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, file := range files {
		t.Run(strings.TrimSuffix(filepath.Base(file), ".txt"), func(t *testing.T) {
			t.Parallel()
			archive, err := txtar.ParseFile(file)
			require.NoError(t, err)
			s := newScenario(t, archive)
			got := s.play(string(archive.Comment))
			if *update {
				archive.Comment = []byte(got)
				require.NoError(t, os.WriteFile(file, txtar.Format(archive), 0o644))
			}
			require.Equal(t, string(archive.Comment), got)
		})
	}
}

type scenario struct {
	t    *testing.T
	root string
	w    *hearing
}

func newScenario(t *testing.T, archive *txtar.Archive) *scenario {
	s := &scenario{t: t, root: filepath.Join(t.TempDir(), "project")}
	for _, f := range archive.Files {
		path := filepath.Join(s.root, f.Name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, f.Data, 0o644))
	}
	time.Sleep(2 * stamp.SoonAfter) // old enough for the watcher to trust their times
	return s
}

// play executes the commands and returns the commands with what was reported.
func (s *scenario) play(account string) string {
	var out strings.Builder
	var interests []pattern.Interest
	for _, line := range strings.SplitAfter(account, "\n") {
		text := strings.TrimSpace(line)
		command, isCommand := strings.CutPrefix(text, "$ ")
		switch {
		case isCommand && s.w == nil && len(interests) == 0:
			out.WriteString(line)
			s.shell(command) // before there is a listener
		case isCommand:
			if s.w == nil {
				s.listen(interests)
			}
			out.WriteString(line)
			s.shell(command)
			out.WriteString(s.heard())
		case text == "" || strings.HasPrefix(text, "#"):
			out.WriteString(line)
		case s.w == nil:
			out.WriteString(line)
			interests = append(interests, readInterest(text))
		}
	}
	return out.String()
}

func (s *scenario) listen(interests []pattern.Interest) {
	s.w = open(s.t, s.root, interests...)
	s.w.awaitIdle(s.t)
}

func readInterest(line string) pattern.Interest {
	key, rest, _ := strings.Cut(line, ": ")
	in := pattern.Interest{Key: key, Debounce: debounce}
	for _, word := range strings.Fields(rest) {
		ignore, is := strings.CutPrefix(word, "!")
		switch {
		case word == "unignored":
			in.Unignored = true
		case word == "skip_unchanged":
			in.SkipUnchanged = true
		case word == "at_once":
			in.Debounce = 0
		case is:
			in.Ignore = append(in.Ignore, ignore)
		default:
			in.Rules = append(in.Rules, pattern.Rule{Pattern: word})
		}
	}
	return in
}

func (s *scenario) shell(command string) {
	s.t.Helper()
	c := exec.Command("sh", "-ec", command)
	c.Dir = s.root
	c.Env = append(
		os.Environ(),
		"GIT_AUTHOR_NAME=Harbour",
		"GIT_AUTHOR_EMAIL=harbour@example.com",
		"GIT_COMMITTER_NAME=Harbour",
		"GIT_COMMITTER_EMAIL=harbour@example.com",
	)
	out, err := c.CombinedOutput()
	require.NoError(s.t, err, "%s: %s", command, out)
}

// heard returns everything that was reported.
func (s *scenario) heard() string {
	var bursts []int
	lines := map[int][]string{} // by burst: interests may hear of one in several Changes
	var rest strings.Builder
	for _, ev := range s.w.settle(s.t) {
		switch ev := ev.(type) {
		case Unchanged:
			fmt.Fprintf(&rest, "  %s as before\n", strings.Join(ev.Keys, " "))
		case Notice:
			if strings.HasPrefix(ev.Text, "version control is at work") {
				continue // takes more than a second on a busy machine
			}
			fmt.Fprintf(&rest, "  said: %s\n", strings.ReplaceAll(ev.Text, s.root, "."))
		case Change:
			if lines[ev.Burst] == nil {
				bursts = append(bursts, ev.Burst)
			}
			for _, h := range ev.Hits {
				lines[ev.Burst] = append(lines[ev.Burst], fmt.Sprintf("  %s %s %s\n", h.Key, h.Path, h.What))
			}
		}
	}
	return accountOf(bursts, lines) + rest.String()
}

func accountOf(bursts []int, lines map[int][]string) string {
	var out strings.Builder
	for i, burst := range bursts {
		fmt.Fprintf(&out, "change %d\n%s", i+1, strings.Join(slices.Sorted(slices.Values(lines[burst])), ""))
	}
	return out.String()
}
