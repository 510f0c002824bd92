package readers

import (
	"cmp"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/rogpeppe/go-internal/txtar"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/output/logbook"
	"omnivigil/internal/plan"
	"omnivigil/internal/plan/settings"
	"omnivigil/internal/results"
	"omnivigil/internal/text/escape"
	"omnivigil/internal/text/location"
)

var (
	rerun  = flag.Bool("record", false, "run the tools again whose output the golden files have")
	update = flag.Bool("update", false, "write what is read now into the golden files")
)

// golden is a page of testdata: output of a real tool about some files, and the results that are read from it. Its
// comment has lines "version: COMMAND", "= the printed version", "command: COMMAND" and, where needed, "results:" and
// "findings:" as in settings.
type golden struct {
	*txtar.Archive
	file, root string
}

func (g *golden) line(key string) string {
	for line := range strings.Lines(string(g.Comment)) {
		if value, ok := strings.CutPrefix(line, key); ok {
			return strings.TrimSpace(value)
		}
	}
	return ""
}

// part returns the text of a file of the page.
func (g *golden) part(name string) string {
	for _, f := range g.Files {
		if f.Name == name {
			return string(f.Data)
		}
	}
	return ""
}

func (g *golden) set(name, text string) {
	for i := range g.Files {
		if g.Files[i].Name == name {
			g.Files[i].Data = []byte(text)
			return
		}
	}
	g.Files = append(g.Files, txtar.File{Name: name, Data: []byte(text)})
}

// options returns the page's settings, as they would be read.
func (g *golden) options(t *testing.T) Options {
	text := fmt.Sprintf("[suite.a]\nrun = \"true\"\nresults = %q\n", cmp.Or(g.line("results:"), "auto"))
	if findings := g.line("findings:"); findings != "" {
		text += "findings = " + findings + "\n"
	}
	file := filepath.Join(t.TempDir(), plan.FileName)
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	p, err := settings.Read(file)
	require.NoError(t, err)
	return Options{Dir: g.root, Root: g.root, Results: p.Units[0].Results, Findings: p.Units[0].Findings}
}

// again runs the page's command on a terminal, as a session does.
func (g *golden) again(t *testing.T) {
	g.set("output", g.run(t, g.line("command:")))
	version := strings.Join(strings.Fields(g.run(t, g.line("version:"))), " ")
	var comment strings.Builder
	for line := range strings.Lines(string(g.Comment)) {
		if !strings.HasPrefix(line, "= ") {
			comment.WriteString(line)
		}
		if strings.HasPrefix(line, "version:") {
			comment.WriteString("= " + strings.TrimSpace(version) + "\n")
		}
	}
	g.Comment = []byte(comment.String())
	if report := g.line("report:"); report != "" {
		text, err := os.ReadFile(filepath.Join(g.root, report))
		require.NoError(t, err)
		g.set(report, strings.ReplaceAll(string(text), g.root, "$ROOT"))
	}
}

func (g *golden) run(t *testing.T, command string) string {
	cmd := exec.Command("/bin/sh", "-c", command)
	cmd.Dir, cmd.Env = g.root, append(os.Environ(), "TERM=xterm-256color")
	terminal, err := pty.StartWithSize(cmd, &pty.Winsize{Rows: 40, Cols: 120})
	require.NoError(t, err)
	out, _ := io.ReadAll(terminal) // reading from a terminal ends with an error
	_ = cmd.Wait()                 // most of these tools fail
	scanner := logbook.Scanner{}
	lines := slices.Clone(scanner.Scan(out))
	text := escape.Strip(strings.Join(append(lines, scanner.Rest()...), "\n")) + "\n"
	if tools := os.Getenv("TOOLS"); tools != "" {
		text = strings.ReplaceAll(text, tools, "$TOOLS")
	}
	return strings.ReplaceAll(text, g.root, "$ROOT")
}

// printing is a sink that writes down what it receives.
type printing struct {
	strings.Builder
	root string
}

func (p *printing) say(format string, args ...any) {
	p.WriteString(strings.ReplaceAll(fmt.Sprintf(format, args...), p.root, "$ROOT") + "\n")
}

func (p *printing) Began(string, string) {}

func (p *printing) Planned(n int) { p.say("planned %d", n) }

func (p *printing) Ended(c results.Case) {
	p.say("%s %q %q%s", c.Status, c.Suite, c.Name, placeText(c.Location))
	if c.Message != "" {
		p.say("    %s", strings.ReplaceAll(c.Message, "\n", "\n    "))
	}
	if c.Want != "" || c.Got != "" {
		p.say("    want %q got %q", c.Want, c.Got)
	}
}

func (p *printing) SuiteEnded(e results.SuiteEnd) {
	text := ""
	for name, is := range map[string]bool{" cached": e.Cached, " broken": e.Broken} {
		if is {
			text += name
		}
	}
	p.say("suite %q ended, ok %t%s", e.Suite, e.OK, text)
}

func (p *printing) Found(f results.Finding) {
	rule := ""
	if f.Rule != "" {
		rule = " (" + f.Rule + ")"
	}
	p.say("%s%s%s: %s", f.Severity, placeText(f.Location), rule, f.Message)
	for _, n := range f.Notes {
		p.say("    %s", n)
	}
}

func placeText(p location.Location) string {
	switch {
	case p.File == "":
		return ""
	case p.Column == 0:
		return fmt.Sprintf(" %s:%d", p.File, p.Line)
	}
	return fmt.Sprintf(" %s:%d:%d", p.File, p.Line, p.Column)
}

// TestGolden reads recorded output of real tools. With -record, the tools that are installed are run again.
func TestGolden(t *testing.T) {
	pages, err := filepath.Glob("testdata/golden/*.txtar")
	require.NoError(t, err)
	require.NotEmpty(t, pages)
	for _, file := range pages {
		t.Run(strings.TrimSuffix(filepath.Base(file), ".txtar"), func(t *testing.T) {
			archive, err := txtar.ParseFile(file)
			require.NoError(t, err)
			root, err := filepath.EvalSymlinks(t.TempDir())
			require.NoError(t, err)
			g := &golden{archive, file, root}
			for _, f := range g.Files {
				path := filepath.Join(root, f.Name)
				require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o700))
				require.NoError(t, os.WriteFile(path, []byte(strings.ReplaceAll(string(f.Data), "$ROOT", root)), 0o700))
			}
			if *rerun {
				g.again(t)
			}
			p := &printing{root: root}
			o := g.options(t)
			r := New(o, p)
			for line := range strings.Lines(strings.ReplaceAll(g.part("output"), "$ROOT", root)) {
				r.Read(strings.TrimSuffix(line, "\n"))
			}
			r.End(true)
			_, err = ReadCases(o, time.Time{}, r, p)
			if err = errors.Join(err, ReadFindings(o, time.Time{}, p)); err != nil {
				p.say("error: %v", err)
			}
			if *rerun || *update {
				g.set("want", p.String())
				require.NoError(t, os.WriteFile(file, txtar.Format(g.Archive), 0o600))
			}
			assert.Equal(t, g.part("want"), p.String())
		})
	}
}
