package e2e

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"omnivigil/internal/api"
	"omnivigil/internal/api/client"
	"omnivigil/internal/api/socket"
)

// BenchmarkNamed measures from the moment when a test runner writes that a test has failed to the moment when a face
// has the verdict that names it. The runner continues.
func BenchmarkNamed(b *testing.B) {
	dir, state := b.TempDir(), b.TempDir()
	write := func(name, text string) {
		require.NoError(b, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	write(
		"omnivigil.toml",
		"[suite.harbour]\nrun = \"echo not ok 1 - low-$(date +%s%N); sleep 0.3; exit 1\"\nwatch = [\"tide\"]\n"+
			"debounce = \"0\"\n",
	)
	write("tide", "0")
	cmd := exec.Command(build(b), "start", "--background", "--trust")
	cmd.Dir, cmd.Env = dir, append(os.Environ(), "XDG_STATE_HOME="+state, "XDG_RUNTIME_DIR=")
	require.NoError(b, cmd.Run())
	defer func() {
		stop := exec.Command(build(b), "stop", "--all")
		stop.Dir, stop.Env = cmd.Dir, cmd.Env
		require.NoError(b, stop.Run())
	}()
	place, err := socket.PlaceOf(filepath.Join(dir, "omnivigil.toml"), "", filepath.Join(state, "omnivigil"),
		b.TempDir())
	require.NoError(b, err)
	client, err := client.Connect(b.Context(), place)
	require.NoError(b, err)
	defer client.Close()
	named := regexp.MustCompile(`low-(\d{19})`)
	var took []time.Duration
	seen, enough := "", errors.New("enough")
	err = client.Follow(b.Context(), api.Face{}, func(snap *api.Snapshot) error {
		newest := seen
		for _, m := range named.FindAllStringSubmatch(snap.Verdict.Text, -1) {
			newest = max(newest, m[1])
		}
		if newest == seen {
			return nil
		}
		seen = newest
		written, err := strconv.ParseInt(seen, 10, 64)
		if err != nil {
			return err
		}
		if took = append(took, time.Since(time.Unix(0, written))); len(took) == 50 {
			return enough
		}
		return os.WriteFile(filepath.Join(dir, "tide"), []byte(seen), 0o644)
	})
	require.ErrorIs(b, err, enough)
	slices.Sort(took)
	b.ReportMetric(milliseconds(took[len(took)/2]), "ms-to-verdict-median")
	b.ReportMetric(milliseconds(took[len(took)*95/100]), "ms-to-verdict-95th")
}
