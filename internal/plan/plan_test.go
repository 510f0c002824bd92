package plan

import (
	"flag"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/txtar"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var update = flag.Bool("update", false, "write the problems found into testdata")

// TestProblems reads every archive in testdata: a settings file and all that is
// to be said of it, as a person sees it.
func TestProblems(t *testing.T) {
	files, err := filepath.Glob("testdata/*.txt")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, file := range files {
		t.Run(filepath.Base(file), func(t *testing.T) {
			archive, err := txtar.ParseFile(file)
			require.NoError(t, err)
			dir := t.TempDir()
			require.NoError(t, os.Mkdir(filepath.Join(dir, "cmd"), 0o755))
			_, err = parsePlan(FileName, filepath.Join(dir, FileName), archive.Files[0].Data)
			got := "fine\n"
			if err != nil {
				require.IsType(t, Problems{}, err)
				got = err.Error() + "\n"
			}
			if *update {
				archive.Files[1].Data = []byte(got)
				require.NoError(t, os.WriteFile(file, txtar.Format(archive), 0o644))
			}
			assert.Equal(t, string(archive.Files[1].Data), got)
		})
	}
}

func read(t *testing.T, dir, text string) *Plan {
	t.Helper()
	p, err := parsePlan(FileName, filepath.Join(dir, FileName), []byte(text))
	require.NoError(t, err)
	return p
}

func TestReadFillsIn(t *testing.T) {
	p := read(t, t.TempDir(), `
[project]
name = "Saltmarsh Ferries"
[defaults]
debounce = "80ms"
stop = { grace = "1s" }
overlap = "abandon"
[service.tides]
run = "tides --port 1"
env = { PORT = 4101, LOG = "info" }
[task.fares]
run = ["fares", "two words", "it's"]
debounce = "0"
needs = ["tides"]
[service.berths]
run = "berths"
ready = { http = "http://127.0.0.1:4102/health" }
follows = ["fares"]
start = "manual"
after_exit = "retry"
[group.back]
units = ["fares"]
`)
	assert.Equal(t, "Saltmarsh Ferries", p.Name)
	tides, fares, berths := p.Unit("tides"), p.Unit("fares"), p.Unit("berths")
	assert.Equal(t, []string{"/bin/sh", "-c", "tides --port 1"}, tides.Run.Argv())
	assert.Equal(t, []Variable{{"PORT", "4101"}, {"LOG", "info"}}, tides.Env)
	assert.Equal(t, 80*time.Millisecond, tides.Debounce)
	assert.Equal(t, Ready{After: DefaultLife}, tides.Ready)
	assert.Equal(t, Stop{Signal: "TERM", Grace: time.Second}, tides.Stop)
	assert.Equal(t, []string{"fares", "two words", "it's"}, fares.Run.Argv())
	assert.Equal(t, `fares 'two words' 'it'\''s'`, fares.Run.String())
	assert.Zero(t, fares.Debounce)
	assert.Equal(t, Abandon, fares.Overlap)
	assert.Equal(t, DefaultWithin, berths.Ready.Within)
	assert.Equal(t, []int{4102}, berths.Ports())
	assert.True(t, berths.Manual)
	assert.Equal(t, Retry, berths.AfterExit)

	units, unknown := p.WithNeeds([]string{"back"})
	assert.Empty(t, unknown)
	assert.Equal(t, []*Unit{tides, fares}, units)
	_, unknown = p.WithNeeds([]string{"bertsh"})
	assert.Equal(t, "bertsh", unknown)
	assert.Equal(t, "berths", p.Suggest("bertsh"))
	assert.Equal(t, []*Unit{tides, fares, berths}, p.InOrder())
}

func TestEnvironment(t *testing.T) {
	t.Setenv("FERRY_MACHINE", "of the machine")
	dir := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	write(".env.local", "PORT=1\nFERRY_MACHINE=of a file\nEMPTY=\n")
	write(".env", "PORT=2\nHOST=wick")
	p, err := parsePlan(FileName, filepath.Join(dir, FileName), []byte(`
[project]
env_files = ["missing.env", ".env.local", ".env"]
[service.berths]
run = "berths"
env = { ADDRESS = "${HOST}:${PORT}", LOG = "${LOG_OF_NOBODY:-info}", M = "${FERRY_MACHINE}", D = "$$5", E = "${EMPTY:-full}" }
`))
	require.NoError(t, err)
	u := p.Unit("berths")
	assert.Equal(t, []Variable{{"EMPTY", ""}, {"HOST", "wick"}, {"PORT", "1"},
		{"ADDRESS", "wick:1"}, {"LOG", "info"}, {"M", "of the machine"}, {"D", "$5"}, {"E", "full"}}, u.Env)
	assert.Equal(t, Variable{"ADDRESS", "${HOST}:${PORT}"}, u.OwnEnv[0])
}

func TestCompare(t *testing.T) {
	const before = `
[service.tides]
run = "tides"
watch = ["a", "b"]
[service.berths]
run = "berths"
[task.fares]
run = "fares"
[task.gone]
run = "gone"
`
	for _, test := range []struct {
		name, after string
		want        Difference
	}{
		{"order and comments", "# new\n[task.gone]\nrun=\"gone\"\n[task.fares]\nrun=\"fares\"\n[service.berths]\nrun=\"berths\"\n[service.tides]\nwatch=[\"b\",\"a\"]\nrun=\"tides\"", Difference{}},
		{"each kind of edit", `
[service.tides]
run = "tides"
watch = ["a"]
[service.berths]
run = ["berths"]
[service.fares]
run = "fares"
[task.fresh]
run = "fresh"
`, Difference{Added: []string{"fresh"}, Removed: []string{"gone"}, Changed: []string{"berths", "fares"}, Adjusted: []string{"tides"}}},
	} {
		t.Run(test.name, func(t *testing.T) {
			dir := t.TempDir()
			assert.Equal(t, test.want, Compare(read(t, dir, before), read(t, dir, test.after)))
		})
	}
}

// FuzzRead looks for files that make the reader panic, or whose problems stand
// in places that the file does not have.
func FuzzRead(f *testing.F) {
	files, _ := filepath.Glob("testdata/*.txt")
	for _, file := range files {
		if archive, err := txtar.ParseFile(file); err == nil {
			f.Add(archive.Files[0].Data)
		}
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		_, err := parsePlan(FileName, filepath.Join(os.TempDir(), FileName), data)
		problems, _ := err.(Problems)
		for _, p := range problems {
			if lines := strings.Count(string(data), "\n") + 1; p.Line < 1 || p.Line > lines {
				t.Errorf("line %d of %d: %s", p.Line, lines, p.Text)
			}
			_ = p.String()
		}
	})
}
