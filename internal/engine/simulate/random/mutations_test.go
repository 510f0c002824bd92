package random

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/rogpeppe/go-internal/txtar"
	"github.com/stretchr/testify/require"
)

// TestMutations breaks the engine in the ways that testdata/mutations describes, one at a time, and requires the
// simulator to notice each one: a simulator that finds nothing proves nothing.
func TestMutations(t *testing.T) {
	if testing.Short() {
		t.Skip("builds the engine once for each mutation")
	}
	files, err := filepath.Glob("testdata/mutations/*.txt")
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(files), 10)
	for _, file := range files {
		t.Run(strings.TrimSuffix(filepath.Base(file), ".txt"), func(t *testing.T) {
			t.Parallel()
			archive, err := txtar.ParseFile(file)
			require.NoError(t, err)
			require.Len(t, archive.Files, 3)
			part := func(i int) string { return strings.TrimSuffix(string(archive.Files[i].Data), "\n") }
			original, err := filepath.Abs(filepath.Join("../..", part(0)))
			require.NoError(t, err)
			source, err := os.ReadFile(original)
			require.NoError(t, err)
			require.Equal(t, 1, strings.Count(string(source), part(1)), "the mutation no longer fits %s", original)

			dir := t.TempDir()
			mutant := filepath.Join(dir, "mutant.go")
			require.NoError(
				t,
				os.WriteFile(mutant, []byte(strings.Replace(string(source), part(1), part(2), 1)), 0o644),
			)
			overlay, err := json.Marshal(map[string]any{"Replace": map[string]string{original: mutant}})
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(filepath.Join(dir, "overlay.json"), overlay, 0o644))

			program := filepath.Join(dir, "simulate")
			// Only the engine changes, and building without optimization takes half the time.
			build := exec.Command("go", "build", "-overlay", filepath.Join(dir, "overlay.json"), "-o", program,
				"-gcflags=omnivigil/internal/engine/...=-N -l", "-ldflags=-s -w", "omnivigil/cmd/simulate")
			build.Env = append(os.Environ(), "CGO_ENABLED=0")
			out, err := build.CombinedOutput()
			require.NoError(t, err, "%s", out)
			if out, err = exec.Command(program, "-from", seedOf(archive)).CombinedOutput(); err == nil {
				out, err = exec.Command(program, "-seeds", "16000").CombinedOutput()
			}
			require.Error(t, err, "the simulator did not notice: %s", archive.Comment)
			require.Regexp(t, `rule \d`, string(out))
			t.Logf("%s%s", archive.Comment, firstRule(string(out)))
			if found := foundBy.FindStringSubmatch(string(out)); found != nil && found[1] != seedOf(archive) {
				t.Logf("noticed only by seed %s: put that into %s", found[1], file)
			}
		})
	}
}

var (
	seedLine = regexp.MustCompile(`(?m)^Seed: (\d+)$`)
	foundBy  = regexp.MustCompile(`seed (\d+), \d+ units`)
)

// seedOf returns the seed that is known to detect a mutation, so that it is played first; "0" if there is none.
func seedOf(mutation *txtar.Archive) string {
	if m := seedLine.FindSubmatch(mutation.Comment); m != nil {
		return string(m[1])
	}
	return "0"
}

func firstRule(out string) string {
	line, _, _ := strings.Cut(out[strings.Index(out, "rule "):], "\n")
	return line[:min(100, len(line))]
}
