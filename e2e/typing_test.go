package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// programs are the programs to type into: a unit for each, and what a user does with it.
var programs = []struct {
	unit, needs, run string
	do               func(s *screen, dir string)
}{
	{"editor", "vim", "vim -u NONE -N --cmd 'set mouse=a' notes.txt", editing},
	{"pager", "less", "less -R timetable.txt", func(s *screen, _ string) {
		s.shows(`sailing 1 of the day`)
		s.press("Space")
		s.press("-l", "/sailing 250")
		s.press("Enter")
		s.shows(`(?m)^sailing 250 of the day`)
		s.press("-l", "q")
		s.shows(`has ended; this is its last screen`)
		s.press("-l", "r")
		s.shows(`typing into pager`)
		s.shows(`sailing 1 of the day`)
	}},
	{"table", "top", "top", func(s *screen, _ string) {
		s.shows(`load average`)
		s.press("-l", "h")
		s.shows(`Type 'q' or <Esc> to continue`)
		s.press("-l", "q")
		s.shows(`load average`)
	}},
	{"python", "python3", "python3 -q", func(s *screen, _ string) {
		s.shows(`>>>`)
		s.press("-l", "6*7")
		s.press("Enter")
		s.shows(`42\s+>>>`) // until then it does not edit its line itself
		s.press("Up", "BSpace")
		s.press("-l", "8")
		s.press("Enter")
		s.shows(`42\s+>>> 6\*8\s+48`)
		s.press("C-c")
		s.shows(`KeyboardInterrupt`)
	}},
	{"node", "node", "node", func(s *screen, _ string) {
		s.press("-l", "[1,2].map(n => n * 21)")
		s.press("Enter")
		s.shows(`\[ 21, 42 \]`)
		s.press("-l", "const tide = '渡し船'")
		s.press("Enter")
		s.shows(`undefined\s+>`)
		s.press("-l", "tide.len")
		s.press("Tab")
		s.shows(`> tide.length`)
		s.press("Enter")
		s.shows(`> tide.length\s+3`)
	}},
	{"store", "redis-server", "redis-cli -p PORT", func(s *screen, _ string) {
		s.press("-l", "set tide 4")
		s.press("Enter")
		s.shows(`OK\s+127.0.0.1:\d+>`)
		s.press("-l", "get tide")
		s.press("Enter")
		s.shows(`OK\s+127.0.0.1:\d+> get tide\s+"4"`)
	}},
	{"debugger", "gdb", "gdb -q", func(s *screen, _ string) {
		s.shows(`\(gdb\)`)
		s.press("-l", "print 6*7")
		s.press("Enter")
		s.shows(`= 42`)
	}},
}

// editing uses an editor: text, pasting, the mouse, another size, and saving.
func editing(s *screen, dir string) {
	s.shows(`~`)
	s.press("-l", "i渡し船 sails at 7, Fähre at 8")
	s.press("Enter")
	s.press("-l", "\x1b[200~pasted:\n  indented\x1b[201~") // as a terminal sends it
	s.shows(`indented`)
	s.press("-l", "\x1b[27u")
	s.press("-l", "\x1b[<0;3;4M\x1b[<0;3;4m") // a click into its second row
	s.press("-l", ":set columns? | echo 'row ' line('.')")
	s.press("Enter")
	s.shows(`columns=`)
	s.shows(`row +[12]`)
	s.press("Enter")
	exec.Command("tmux", "-S", s.socket, "resize-window", "-x", "100", "-y", "20").Run()
	s.shows(`(?s)渡し船.*f12 to return|f12 to return(?s).*渡し船`)
	s.press("-l", ":echo 'now' &columns &lines")
	s.press("Enter")
	s.shows(`now 100 1[78]`)
	s.press("-l", ":w")
	s.press("Enter")
	s.shows(`written`)
	data, err := os.ReadFile(filepath.Join(dir, "notes.txt"))
	require.NoError(s.t, err)
	assert.Equal(s.t, "渡し船 sails at 7, Fähre at 8\npasted:\n  indented\n", string(data))
}

// TestTyping types into real programs, at two sizes, and leaves each.
func TestTyping(t *testing.T) {
	t.Parallel()
	program := build(t)
	for _, size := range [][2]int{{158, 46}, {80, 24}} {
		t.Run(fmt.Sprintf("%dx%d", size[0], size[1]), func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			port := fmt.Sprint(freePorts(1)[0])
			var settings, timetable strings.Builder
			settings.WriteString(
				"[project]\nname = \"Saltmarsh Ferries\"\n[service.database]\nrun = [\"redis-server\", \"--port\", \"" +
					port + "\", \"--save\", \"\"]\nready = { port = " + port + " }\n",
			)
			for i := range 400 {
				fmt.Fprintf(&timetable, "sailing %d of the day\n", i+1)
			}
			require.NoError(t, os.WriteFile(dir+"/timetable.txt", []byte(timetable.String()), 0o644))
			taken := programs[:0:0]
			for _, p := range programs {
				if _, err := exec.LookPath(p.needs); err != nil {
					continue
				}
				needs := ""
				if p.unit == "store" {
					needs = "needs = [\"database\"]\n"
				}
				fmt.Fprintf(
					&settings,
					"[service.%s]\nrun = %q\n%s",
					p.unit,
					strings.ReplaceAll(p.run, "PORT", port),
					needs,
				)
				taken = append(taken, p)
			}
			require.NotEmpty(t, taken)
			require.NoError(t, os.WriteFile(dir+"/omnivigil.toml", []byte(settings.String()), 0o644))
			s := openScreen(
				t,
				size[0],
				size[1],
				[]string{"XDG_STATE_HOME=" + dir + "/state", "HOME=" + dir},
				dir,
				program,
				"start",
				"--trust",
			)
			s.shows(`CURRENT`)
			for _, p := range taken {
				s.choose(p.unit)
				s.press("-l", "h")
				s.shows(`typing into ` + p.unit + `.* f12 to return`)
				p.do(s, dir)
				s.press("F12")
				s.shows(`following`)
			}
			s.press("-l", "qq")
			s.shows(`exit code 0`)
			noneLeft(t, dir)
		})
	}
}

// TestSQLPrompt types into the prompt of a real database, from the stream and in its terminal.
func TestSQLPrompt(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("psql"); err != nil {
		t.Skip("psql is not installed")
	}
	o := openOffice(t)
	settings, err := os.ReadFile(o.dir + "/omnivigil.toml")
	require.NoError(t, err)
	settings = append(
		settings,
		"\n[service.sql]\nrun = \"psql -h 127.0.0.1 -p $DB_PORT -U office -d postgres\"\n"+
			"env = { PAGER = \"less\" }\nneeds = [\"database\"]\n"...)
	require.NoError(t, os.WriteFile(o.dir+"/omnivigil.toml", settings, 0o644))
	s := openScreen(t, 120, 30, []string{"XDG_STATE_HOME=" + o.state}, o.dir, o.program, "start", "--trust", "sql")
	s.shows(`sql +service .*\? asks a password`)
	s.choose("sql")
	s.press("-l", "i")
	s.shows(`sql asks: Password for user office:`)
	s.press("-l", "low-water-springs")
	s.shows(`\*{17}`)
	require.NotContains(t, s.text(), "low-water-springs")
	s.press("Enter")
	s.shows(`sql +service .*\? asks postgres=`)
	s.press("-l", "i")
	s.shows(`sql asks: postgres=#`)
	s.press("-l", "select 6*7 as berths \\g")
	s.press("Enter")
	s.shows(`postgres=# select 6\*7 as berths`)
	s.shows(`\(1 row\)`)
	s.press("-l", "h")
	s.shows(`typing into sql`)
	s.press("-l", "select n, 'low-water-springs' from generate_series(1, 300) n \\g")
	s.press("Enter")
	s.shows(`17 \| \*{17}`) // in a pager, and masked there, too
	s.press("-l", "G")
	s.shows(`\(300 rows\)`)
	s.press("-l", "q")
	s.shows(`postgres=# *\n`)
	s.press("F12")
	s.shows(`following`)
	s.press("-l", "qq")
	s.shows(`exit code 0`)
	noneLeft(t, o.state)
}

// TestRunner filters an interactive test runner to one test, and goes back to all.
func TestRunner(t *testing.T) {
	runner, err := exec.LookPath("jest")
	if err != nil {
		t.Skip("jest is not installed")
	}
	program, dir, state := build(t), t.TempDir(), t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	out, err := exec.Command("git", "init", "-q", dir).CombinedOutput() // all files of which have changed
	require.NoError(t, err, string(out))
	write("package.json", `{"name": "saltmarsh-ferries"}`)
	for _, name := range []string{"tides", "berths"} {
		write(name+".test.js", fmt.Sprintf("test('low %s', () => {});\ntest('high %s', () => {});\n", name, name))
	}
	write("omnivigil.toml", fmt.Sprintf("[service.runner]\nrun = [%q, \"--watchAll\", \"--no-watchman\"]\n", runner))
	// Where CI is set, as where tests run unattended, Jest does not show its usage.
	s := openScreen(t, 100, 30, []string{"XDG_STATE_HOME=" + state, "CI=false"}, dir, program, "start", "--trust")
	s.shows(`(?s)Tests: +4 passed, 4 total.*Watch Usage`)
	s.press("-l", "h")
	s.shows(`typing into runner`)
	s.press("-l", "t")
	s.shows(`Pattern Mode Usage`)
	for i, letter := range "low tides" { // it takes keys that arrive together for one key
		s.press("-l", string(letter))
		s.shows(`pattern . ` + strings.TrimSpace("low tides"[:i+1]))
	}
	s.press("Enter")
	s.shows(`(?s)Tests: +3 skipped, 1 passed, 4 total.*Watch Usage`) // before that, a key would interrupt the run
	s.press("-l", "t")
	s.shows(`Pattern Mode Usage`)
	s.press("Enter") // no pattern: all of them
	s.shows(`Tests: +4 passed, 4 total`)
	s.press("F12")
	s.shows(`following`)
	s.press("-l", "qq")
	s.shows(`exit code 0`)
	noneLeft(t, state)
}

// TestTwoFacesType watches with a second face, which takes over on request; neither is slowed down when the other one
// leaves.
func TestTwoFacesType(t *testing.T) {
	t.Parallel()
	program, dir := build(t), t.TempDir()
	require.NoError(
		t,
		os.WriteFile(
			dir+"/omnivigil.toml",
			[]byte("[service.console]\nrun = \"sh -c 'while read -r l; do echo heard $l; done'\"\n"),
			0o644,
		),
	)
	env := []string{"XDG_STATE_HOME=" + dir + "/state"}
	one := openScreen(t, 90, 20, env, dir, program, "start", "--trust")
	one.shows(`CURRENT`)
	one.press("-l", "h")
	one.shows(`typing into console`)
	two := openScreen(t, 80, 24, env, dir, program, "attach")
	two.shows(`CURRENT`)
	two.press("-l", "h")
	two.shows(`watching console: another screen is typing into it`)
	one.press("-l", "tide")
	one.press("Enter")
	two.shows(`heard tide`)
	two.press("-l", "x")
	two.press("Enter")
	two.shows(`typing into console .*f12 to return`)
	one.shows(`watching console: another screen is typing into it`)
	two.press("-l", "ebb")
	two.press("Enter")
	one.shows(`heard ebb`)
	two.press("F12")
	two.press("-l", "q")
	two.shows(`would keep running without this screen`)
	two.press("Enter")
	two.shows(`exit code 0`)
	one.shows(`watching console.*enter types into it`)
	one.press("Enter")
	one.shows(`typing into console .*f12 to return`)
	one.press("F12")
	one.press("-l", "qq")
	one.shows(`exit code 0`)
	noneLeft(t, dir)
}

// choose selects a unit by its name.
func (s *screen) choose(unit string) {
	s.t.Helper()
	s.press("-l", "f")
	s.shows(`(?m)^ units with`)
	s.press("C-u")
	s.press("-l", unit)
	s.shows(`▸ ` + unit)
	s.press("-l", "\x1b[27u")
	s.shows(`following`)
}
