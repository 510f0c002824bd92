package settings

import (
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/txtar"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/plan"
	"omnivigil/internal/plan/document"
	"omnivigil/internal/plan/preferences"
)

var update = flag.Bool("update", false, "write the problems found into testdata")

// TestProblems reads every archive in testdata: a settings file and all of its problems, as a user sees them.
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
			_, err = parsePlan(plan.FileName, filepath.Join(dir, plan.FileName), "", archive.Files[0].Data)
			got := "fine\n"
			if err != nil {
				require.IsType(t, document.Problems{}, err)
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

func read(t *testing.T, dir, text string) *plan.Plan {
	t.Helper()
	p, err := parsePlan(plan.FileName, filepath.Join(dir, plan.FileName), "", []byte(text))
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
	assert.Equal(t, []plan.Variable{{Name: "PORT", Value: "4101"}, {Name: "LOG", Value: "info"}}, tides.Env)
	assert.Equal(t, 80*time.Millisecond, tides.Debounce)
	assert.Equal(t, plan.Ready{After: plan.DefaultLife}, tides.Ready)
	assert.Equal(t, plan.Stop{Signal: "TERM", Grace: time.Second}, tides.Stop)
	assert.Equal(t, []string{"fares", "two words", "it's"}, fares.Run.Argv())
	assert.Equal(t, `fares 'two words' 'it'\''s'`, fares.Run.String())
	assert.Zero(t, fares.Debounce)
	assert.Equal(t, plan.Abandon, fares.Overlap)
	assert.Equal(t, plan.DefaultWithin, berths.Ready.Within)
	assert.Equal(t, "[127.0.0.1:4102]", fmt.Sprint(berths.Ports()))
	assert.True(t, berths.Manual)
	assert.Equal(t, plan.Retry, berths.AfterExit)

	units, unknown := p.WithNeeds([]string{"back"})
	assert.Empty(t, unknown)
	assert.Equal(t, []*plan.Unit{tides, fares}, units)
	_, unknown = p.WithNeeds([]string{"bertsh"})
	assert.Equal(t, "bertsh", unknown)
	assert.Equal(t, `did you mean "berths"?`, p.Hint("bertsh"))
	assert.Contains(t, p.Hint("x"), "there are ")
	assert.Equal(t, []*plan.Unit{tides, fares, berths}, p.InOrder())
}

// TestUses compares the plans before and after edits of an env file: only units that receive the variable change.
func TestUses(t *testing.T) {
	dir := t.TempDir()
	read := func(env string) *plan.Plan {
		require.NoError(t, os.WriteFile(filepath.Join(dir, ".env"), []byte(env), 0o644))
		p, err := Parse(filepath.Join(dir, plan.FileName), []byte(`
[project]
env_files = [".env"]
[service.all]
run = "all"
[service.some]
run = "some --port $PORT"
uses = ["DB_*"]
env = { AT = "${HOST}" }
[service.none]
run = "none"
uses = []
`))
		require.NoError(t, err)
		return p
	}
	before := read("PORT=1\nHOST=a\nDB_NAME=x\nLEVEL=low\n")
	var names []string
	for _, v := range before.Unit("some").Env {
		names = append(names, v.Name)
	}
	assert.Equal(t, []string{"DB_NAME", "PORT", "AT"}, names)
	assert.Empty(t, before.Unit("none").Env)
	for env, want := range map[string][]string{
		"PORT=1\nHOST=a\nDB_NAME=x\nLEVEL=high\n": {"all"},
		"PORT=2\nHOST=a\nDB_NAME=x\nLEVEL=low\n":  {"all", "some"},
		"PORT=1\nHOST=b\nDB_NAME=x\nLEVEL=low\n":  {"all", "some"},
		"PORT=1\nHOST=a\nDB_NAME=y\nLEVEL=low\n":  {"all", "some"},
	} {
		assert.Equal(t, want, plan.Compare(before, read(env)).Changed, env)
	}
}

func TestEnvironment(t *testing.T) {
	t.Setenv("FERRY_MACHINE", "of the machine")
	dir := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	write(".env.local", "PORT=1\nFERRY_MACHINE=of a file\nEMPTY=\n")
	write(".env", "PORT=2\nHOST=wick")
	p, err := parsePlan(plan.FileName, filepath.Join(dir, plan.FileName), "", []byte(`
[project]
env_files = ["missing.env", ".env.local", ".env"]
[service.berths]
run = "berths"
env = { ADDRESS = "${HOST}:${PORT}", LOG = "${LOG_OF_NOBODY:-info}", M = "${FERRY_MACHINE}", D = "$$5", E = "${EMPTY:-full}" }
`))
	require.NoError(t, err)
	u := p.Unit("berths")
	assert.Equal(t, []plan.Variable{
		{Name: "EMPTY", Value: "", File: ".env.local"},
		{Name: "HOST", Value: "wick", File: ".env"},
		{Name: "PORT", Value: "1", File: ".env.local"},
		{
			Name:  "ADDRESS",
			Value: "wick:1",
			File:  "",
		},
		{Name: "LOG", Value: "info", File: ""},
		{Name: "M", Value: "of the machine", File: ""},
		{Name: "D", Value: "$5", File: ""},
		{Name: "E", Value: "full", File: ""},
	}, u.Env)
	assert.Equal(t, plan.Variable{Name: "ADDRESS", Value: "${HOST}:${PORT}"}, u.OwnEnv[0])
	assert.Equal(t, []string{"missing.env"}, p.MissingEnvFiles)
	p.Secret = []string{"FERRY_*"}
	assert.Equal(t, []string{"of a file", "of the machine"}, p.SecretValues(os.Environ()))
}

func TestUnitEnvironment(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, ".env"), []byte("PORT=1\nHOST=wick\n"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, ".env.berths"), []byte("PORT=2\n"), 0o644))
	p := read(t, dir, `
[project]
env_files = [".env"]
[defaults]
endpoint = { port = "${PORT}" }
[service.berths]
ready = { http = "http://127.0.0.1:${PORT}/${WAY}" }
run = ["berths", "--host=${HOST}", "$${HOST}"]
env = { WAY = "health" }
env_files = [".env.berths"]
[service.tides]
run = "tides $PORT"
ready = { file = "${HOST}.ready" }
`)
	berths, tides := p.Unit("berths"), p.Unit("tides")
	assert.Equal(
		t,
		[]plan.Variable{{Name: "HOST", Value: "wick", File: ".env"}, {Name: "PORT", Value: "2", File: ".env.berths"},
			{Name: "WAY", Value: "health", File: ""}},
		berths.Env,
	)
	assert.Equal(t, "http://127.0.0.1:2/health", berths.Ready.HTTP)
	assert.Equal(t, []string{"berths", "--host=wick", "${HOST}"}, berths.Run.Argv())
	assert.Equal(t, "berths '--host=${HOST}' '$${HOST}'", berths.Run.String(), "values are not shown")
	assert.Equal(t, []int{2, 1}, []int{berths.Endpoint.Port, tides.Endpoint.Port})
	assert.Equal(t, filepath.Join(dir, "wick.ready"), tides.Ready.File)
}

// TestBrokenEnvFile checks that the contents of an unreadable file are never quoted.
func TestBrokenEnvFile(t *testing.T) {
	dir := t.TempDir()
	require.NoError(
		t,
		os.WriteFile(filepath.Join(dir, ".env"), []byte("A=1\nB=2\nhunter2 is the password\nC=3\n"), 0o644),
	)
	_, err := parsePlan(
		plan.FileName,
		filepath.Join(dir, plan.FileName),
		"",
		[]byte("[project]\nenv_files = [\".env\"]\n[task.a]\nrun = \"a\"\n"),
	)
	require.ErrorContains(t, err, ".env:3: expected NAME=value")
	assert.NotContains(t, err.Error(), "hunter2")
}

func TestSpecialFiles(t *testing.T) {
	dir := t.TempDir()
	settings := filepath.Join(dir, plan.FileName)
	require.NoError(t, syscall.Mkfifo(filepath.Join(dir, "pipe"), 0o600))
	require.NoError(
		t,
		os.WriteFile(
			settings,
			[]byte("[project]\nenv_files = [\"pipe\", \"/dev/zero\", \".\"]\n[task.a]\nrun = \"a\"\n"),
			0o644,
		),
	)
	_, err := Read(settings)
	require.ErrorContains(t, err, `"pipe" cannot be read: it is a pipe, not a file`)
	require.ErrorContains(t, err, `"/dev/zero" cannot be read: it is a device, not a file`)
	require.ErrorContains(t, err, `"." cannot be read: it is a directory, not a file`)
	for _, file := range []string{filepath.Join(dir, "pipe"), "/dev/zero", dir} {
		_, err := Read(file)
		require.ErrorContains(t, err, "not a file")
	}
}

func TestManyUnits(t *testing.T) {
	var b strings.Builder
	b.WriteString("[defaults]\nneeds = [\"u0\"]\n")
	for i := range 5000 {
		fmt.Fprintf(&b, "[task.u%d]\nrun = \"true\"\nwatch = [\"dir%d/**\"]\nfollows = [\"u%d\"]\n", i, i, i/2)
	}
	p := read(t, t.TempDir(), strings.Replace(b.String(), "follows = [\"u0\"]\n", "", 1))
	assert.Len(t, p.Units, 5000)
	assert.Empty(t, p.Units[0].Needs, "the default does not have it need itself")
}

func TestCaptures(t *testing.T) {
	area := map[string]string{"area": `x$(touch F)' "`}
	for line, want := range map[string]string{
		`go test ./internal/{area}`:     `go test ./internal/"${1}"`,
		`go test "./internal/{area}"`:   `go test "./internal/${1}"`,
		`go test './internal/{area}/x'`: `go test './internal/'"${1}"'/x'`,
		`echo \"{area} {other} ${area}`: `echo \""${1}" {other} ${area}`,
	} {
		c := plan.Command{Shell: line}.With(area)
		assert.Equal(t, want, c.Shell)
		assert.Equal(t, []string{"/bin/sh", "-c", want, "sh", area["area"]}, c.Argv())
	}
	out, err := exec.Command(
		"/bin/sh",
		plan.Command{Shell: `printf %s "a {area}" 'b {area}' {area}`}.With(area).Argv()[1:]...).Output()
	require.NoError(t, err)
	assert.Equal(t, "a "+area["area"]+"b "+area["area"]+area["area"], string(out))
	assert.Equal(t, "go test ./internal/fares 'a fares'",
		plan.Command{Shell: `go test ./internal/{area} 'a {area}'`}.With(map[string]string{"area": "fares"}).String())
	assert.Equal(
		t,
		[]string{"go", "test", "./fares"},
		plan.Command{Words: []string{"go", "test", "./{area}"}}.With(map[string]string{"area": "fares"}).Argv(),
	)
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
		want        plan.Difference
	}{
		{"order and comments", "# new\n[task.gone]\nrun=\"gone\"\n[task.fares]\nrun=\"fares\"\n[service.berths]\n" +
			"run=\"berths\"\n[service.tides]\nwatch=[\"b\",\"a\"]\nrun=\"tides\"",
			plan.Difference{Reasons: map[string]string{}}},
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
`, plan.Difference{
			Added: []string{"fresh"}, Removed: []string{"gone"}, Changed: []string{"berths", "fares"},
			Adjusted: []string{"tides"}, Reasons: map[string]string{},
		}},
	} {
		t.Run(test.name, func(t *testing.T) {
			dir := t.TempDir()
			assert.Equal(t, test.want, plan.Compare(read(t, dir, before), read(t, dir, test.after)))
		})
	}
}

func TestCompareEnvironments(t *testing.T) {
	dir := t.TempDir()
	write := func(text string) *plan.Plan {
		require.NoError(t, os.WriteFile(filepath.Join(dir, ".env"), []byte(text), 0o644))
		return read(t, dir, "[project]\nenv_files = [\".env\"]\n[service.a]\nrun = \"a\"\n")
	}
	d := plan.Compare(write("PORT=1\nHOST=secret\n"), write("PORT=2\nHOST=secret\nNEW=1\n"))
	assert.Equal(t, []string{"a"}, d.Changed)
	assert.Equal(t, ".env: NEW, PORT changed", d.Reason("a"))
	assert.Equal(t, ".env: NEW, PORT", d.Variables)
}

// FuzzRead looks for files that make the reader panic, or for problems at locations that the file does not have.
func FuzzRead(f *testing.F) {
	files, _ := filepath.Glob("testdata/*.txt")
	for _, file := range files {
		if archive, err := txtar.ParseFile(file); err == nil {
			f.Add(archive.Files[0].Data)
		}
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		_, err := parsePlan(plan.FileName, filepath.Join(os.TempDir(), plan.FileName), "", data)
		problems, _ := err.(document.Problems)
		for _, p := range problems {
			if lines := strings.Count(string(data), "\n") + 1; p.Line < 1 || p.Line > lines {
				t.Errorf("line %d of %d: %s", p.Line, lines, p.Text)
			}
			_ = p.String()
		}
	})
}

// FuzzPersonal requires that any user file is either read or reported.
func FuzzPersonal(f *testing.F) {
	f.Add("theme = \"dark\"\n[keys]\nstop = [\"s\"]\n[shortcut.a]\nrun = [\"a\", \"{words}\"]\n", "b")
	f.Add("[keys]\nstop = 1\n[shortcut]\na = 1\n[[shortcut.b]]\n", "")
	file := filepath.Join(f.TempDir(), "config.toml")
	f.Fuzz(func(t *testing.T, text, word string) {
		if os.WriteFile(file, []byte(text), 0o600) != nil {
			return
		}
		p, err := preferences.Read(file, []string{"stop"})
		require.NotNil(t, p)
		if err != nil {
			_ = err.Error()
		}
		for _, s := range p.Shortcuts {
			s.With([]string{word})
			s.With(nil)
		}
	})
}
