package findings

import (
	"os"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/results"
	"omnivigil/internal/results/source"
)

type sink struct {
	results.Sink
	found []string
}

func (s *sink) Found(f results.Finding) { s.found = append(s.found, f.Message) }

// TestSkip reads lines, and then passes over others of the same shape if these have no meaning either.
func TestSkip(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(dir+"/berth.c", nil, 0o600))
	require.NoError(t, os.WriteFile(dir+"/berth2.c", nil, 0o600))
	for name, test := range map[string]struct {
		read, then string
		skips      bool
		finds      string // in what is then read
	}{
		"never seen":           {"", "tide.c:12:3: error: low", false, ""},
		"of no shape":          {"", "high water at 12:30", true, ""},
		"other numbers":        {"tide.c:12:3: error: low", "tide.c:98:7: error: low", true, ""},
		"longer numbers":       {"tide.c:12:3: error: low", "tide.c:112:3: error: low", false, ""},
		"other words":          {"tide.c:12:3: error: low", "tide.c:12:3: error: ebb", false, ""},
		"a file that exists":   {"tides.c:12:3: error: low", "berth.c:12:3: error: low", false, "low"},
		"a number in its name": {"berth1.c:12:3: error: low", "berth2.c:12:3: error: low", false, "low"},
		"a real one":           {"berth.c:12:3: error: low", "berth.c:12:4: error: low", false, "low"},
		"a message":            {"error: berth 12 is taken", "error: berth 13 is taken", true, ""},
		"a message and its file": {"error: berth 12 is taken", "error: berth 13 is taken\n --> berth.c:1:2", false,
			"berth 13 is taken"},
		"its file, much later": {"error: berth 12 is taken", strings.Repeat("\nerror: berth 13 is taken", 9)[1:],
			true, ""},
		"an error of a runtime": {"TideError: 12 m", "TideError: 13 m\n    at Object.<anonymous> (berth.c:1:2)", false,
			"TideError: 13 m"},
	} {
		t.Run(name, func(t *testing.T) {
			to := &sink{}
			f := New(to, source.New(dir, dir), nil)
			for line := range strings.Lines(test.read) {
				f.Read(strings.TrimSuffix(line, "\n"))
			}
			to.found = nil
			require.Equal(t, test.skips, f.Skip([]byte(test.then+"\n")))
			for line := range strings.Lines(test.then) {
				if !test.skips {
					f.Read(strings.TrimSuffix(line, "\n"))
				}
			}
			f.End()
			assert.Equal(t, test.finds, strings.Join(to.found, "\n"))
		})
	}
}

// TestSkipKeepsTheMessage has the location of a message come after lines that were skipped.
func TestSkipKeepsTheMessage(t *testing.T) {
	dir, to := t.TempDir(), &sink{}
	require.NoError(t, os.WriteFile(dir+"/berth.c", nil, 0o600))
	f := New(to, source.New(dir, dir), nil)
	f.Read("error: berth 12 is taken")
	require.True(t, f.Skip([]byte("error: berth 13 is taken\r\nerror: berth 14 is taken\r\nhigh water, late\r\n")))
	f.Read("  --> berth.c:3:4")
	assert.Equal(t, []string{"berth 14 is taken"}, to.found)
	f.End()
	f.Read("error: berth 12 is taken")
	require.True(t, f.Skip([]byte("error: berth 15 is taken\n"+strings.Repeat("high water, late\n", linesBelow))))
	f.Read("  --> berth.c:3:4")
	assert.Len(t, to.found, 1, "the location is too far below")
}

// TestSkipLooksAgain creates the file after lines that named it.
func TestSkipLooksAgain(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		dir, to := t.TempDir(), &sink{}
		f := New(to, source.New(dir, dir), nil)
		line := "berth.c:12:3: error: low"
		f.Read(line)
		require.True(t, f.Skip([]byte(line+"\n")))
		require.NoError(t, os.WriteFile(dir+"/berth.c", nil, 0o600))
		time.Sleep(source.MissingFor + time.Millisecond)
		require.False(t, f.Skip([]byte(line+"\n")))
		f.Read(line)
		assert.Equal(t, []string{"low"}, to.found)
	})
}
