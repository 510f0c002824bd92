package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// told is a project whose tools report tests or locations, and ways to break it.
type told struct {
	name     string
	needs    []string // programs; the first missing one skips it
	settings string
	files    map[string]string
	// breaks returns, for a round, an edit that breaks one thing, the text in the verdict, and the location as
	// file:line.
	breaks func(round int) (file, before, after, verdict, place string)
}

// pytest is how pytest is run here: the system's own Python has it if another one comes first.
func pytest() string {
	for _, python := range []string{"python3", "/usr/bin/python3"} {
		if exec.Command(python, "-m", "pytest", "--version").Run() == nil {
			return python
		}
	}
	return "no-python-with-pytest"
}

// numbered repeats a text for the numbers 1 to 5, which replace {n}.
func numbered(text string) string {
	var b strings.Builder
	for n := range 5 {
		b.WriteString(strings.ReplaceAll(text, "{n}", fmt.Sprint(n+1)))
	}
	return b.String()
}

func toldProjects() []told {
	return []told{
		{
			name: "go", settings: "[suite.harbour]\nrun = \"go test ./...\"\nwatch = [\"**/*.go\"]\n",
			files: map[string]string{
				"go.mod":           "module saltmarsh.example/ferries\n\ngo 1.21\n",
				"berths/berths.go": "package berths\n\nfunc Depth(n int) int { return 2 * n }\n",
				"berths/berths_test.go": "package berths\n\nimport \"testing\"\n" + numbered(
					"\nfunc TestDepth{n}(t *testing.T) {\n\tif got := Depth({n}); got != 2*{n} {\n"+
						"\t\tt.Errorf(\"depth = %d, want %d\", got, 2*{n})\n\t}\n}\n",
				),
				"fares/fares_test.go":    "package fares\n\nimport \"testing\"\n\nfunc TestFare(t *testing.T) {}\n",
				"fares/fares.go":         "package fares\n",
				"tides/tides.go":         "package tides\n",
				"tides/ebb/ebb_test.go":  "package ebb\n\nimport \"testing\"\n\nfunc TestEbb(t *testing.T) {}\n",
				"tides/ebb/ebb.go":       "package ebb\n",
				"manifest/manifest.go":   "package manifest\n",
				"timetable/timetable.go": "package timetable\n",
			},
			breaks: func(round int) (string, string, string, string, string) {
				n := round%5 + 1
				return "berths/berths_test.go", fmt.Sprintf("got != 2*%d {", n), fmt.Sprintf("got != 3*%d {", n),
					fmt.Sprintf(
						`BROKEN +harbour: 1 test failing \(1 new\): TestDepth%d`,
						n,
					), fmt.Sprintf("berths/berths_test.go:%d", 7+6*(n-1))
			},
		},
		{
			name:     "node",
			needs:    []string{"node"},
			settings: "[suite.harbour]\nrun = \"node --test\"\nwatch = [\"**/*.mjs\"]\n",
			files: map[string]string{
				"test/berths.test.mjs": "import { describe, it } from 'node:test';\n" +
					"import assert from 'node:assert/strict';\ndescribe('berths', () => {\n" +
					numbered(
						"  it('has depth {n}', () => {\n    assert.equal(2 * {n}, {n} + {n});\n  });\n",
					) + "});\n",
			},
			breaks: func(round int) (string, string, string, string, string) {
				n := round%5 + 1
				return "test/berths.test.mjs", fmt.Sprintf(
						"assert.equal(2 * %d,",
						n,
					), fmt.Sprintf("assert.equal(3 * %d,", n),
					fmt.Sprintf(`BROKEN +harbour: 1 test failing \(1 new\): berths/has depth %d`, n), fmt.Sprintf(
						"test/berths.test.mjs:%d",
						5+3*(n-1),
					)
			},
		},
		{
			name:  "typescript",
			needs: []string{"tsc"},
			settings: "[service.pages]\nrun = [\"tsc\", \"--watch\", \"--noEmit\"]\nwatch = [\"web/**/*.ts\"]\n" +
				"pass = \"auto\"\n",
			files: map[string]string{
				"tsconfig.json": `{"compilerOptions": {"strict": true}, "include": ["web"]}`,
				"web/berths.ts": numbered("export const depth{n}: number = {n};\n\n"),
			},
			breaks: func(round int) (string, string, string, string, string) {
				n := round%5 + 1
				return "web/berths.ts", fmt.Sprintf(
						"depth%d: number = %d;",
						n,
						n,
					), fmt.Sprintf("depth%d: number = 'low';", n),
					fmt.Sprintf(
						`BROKEN +pages: web/berths\.ts:%d:14: Type 'string' is not assignable`,
						2*n-1,
					), fmt.Sprintf("web/berths.ts:%d", 2*n-1)
			},
		},
		{
			name:  "python",
			needs: []string{pytest()},
			settings: "[suite.harbour]\nrun = [\"" + pytest() +
				"\", \"-m\", \"pytest\", \"--junit-xml=report.xml\"]\nwatch = [\"**/*.py\"]\n" +
				"results = \"junit:report.xml\"\n",
			files: map[string]string{
				"tests/test_berths.py": numbered(
					"def test_depth_{n}():\n    depth = 2 * {n}\n    assert depth == {n} + {n}\n\n",
				),
			},
			breaks: func(round int) (string, string, string, string, string) {
				n := round%5 + 1
				return "tests/test_berths.py", fmt.Sprintf("depth = 2 * %d\n", n), fmt.Sprintf("depth = 3 * %d\n", n),
					fmt.Sprintf(
						`BROKEN +harbour: 1 test failing \(1 new\): test_depth_%d`,
						n,
					), fmt.Sprintf("tests/test_berths.py:%d", 4*n-1)
			},
		},
		{
			name:  "c",
			needs: []string{"cc"},
			settings: "[task.build]\nrun = \"cc -Wall -o berths berths.c\"\nwatch = [\"*.c\"]\n" +
				"env = { LC_ALL = \"C\" }\noutputs = [\"berths\"]\n",
			files: map[string]string{
				"berths.c": "#include <stdio.h>\n\nint main(void)\n{\n" + numbered(
					"\tint depth{n} = {n};\n\tprintf(\"%d\\n\", depth{n});\n",
				) + "\treturn 0;\n}\n",
			},
			breaks: func(round int) (string, string, string, string, string) {
				n := round%5 + 1
				return "berths.c", fmt.Sprintf("depth%d = %d;", n, n), fmt.Sprintf("depth%d = tide;", n),
					fmt.Sprintf(`BROKEN +build: berths\.c:%d:\d+: .*tide`, 3+2*n), fmt.Sprintf("berths.c:%d", 3+2*n)
			},
		},
	}
}

// TestFindingsOfRealTools breaks one thing in a real project, ten times, sees its name in the verdict, jumps to its
// line in the editor, fixes it, and sees it gone.
func TestFindingsOfRealTools(t *testing.T) {
	t.Parallel()
	for _, p := range toldProjects() {
		t.Run(p.name, func(t *testing.T) {
			for _, program := range p.needs {
				if _, err := exec.LookPath(program); err != nil {
					t.Skipf("%s is not installed", program)
				}
			}
			t.Parallel()
			dir, home := t.TempDir(), t.TempDir()
			write := func(path, text string, mode os.FileMode) {
				require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
				require.NoError(t, os.WriteFile(path, []byte(text), mode))
			}
			for name, text := range p.files {
				write(filepath.Join(dir, name), text, 0o644)
			}
			write(filepath.Join(dir, "omnivigil.toml"), p.settings, 0o644)
			opened := filepath.Join(home, "opened")
			editor := "#!/bin/sh\ntest -t 0 -a -t 1 -a -t 2 && echo \"$1\" >> " + opened + "\n" // given the real terminal
			write(filepath.Join(home, "my-editor"), editor, 0o755)
			write(
				filepath.Join(home, "omnivigil", "config.toml"),
				"editor = \""+filepath.Join(home, "my-editor")+" {file}:{line}\"\nnotify = \"off\"\n",
				0o644,
			)
			env := []string{"XDG_STATE_HOME=" + t.TempDir(), "XDG_CONFIG_HOME=" + home, "GOFLAGS=-mod=mod"}
			s := openScreen(t, 158, 46, env, dir, build(t), "start", "--trust")
			s.shows(`CURRENT`)
			for round := range 10 {
				file, before, after, verdict, place := p.breaks(round)
				edit(t, filepath.Join(dir, file), before, after)
				s.shows(verdict)
				s.press(">")
				s.shows(`1 of 1 +` + strings.ReplaceAll(place, ".", `\.`))
				s.press("e")
				want := filepath.Join(dir, place)
				require.True(t, holds(patience, func() bool {
					text, _ := os.ReadFile(opened)
					return strings.HasSuffix(strings.TrimSpace(string(text)), want)
				}), "the editor was to open %s:\n%s", want, s.text())
				edit(t, filepath.Join(dir, file), after, before)
				s.shows(`CURRENT .*the code saved`)
			}
			out, err := command(env, dir, "export", "results", "--format", "json")
			require.NoError(t, err, out)
			require.NotRegexp(t, `"status":"failed","(change|run)"|"severity":"error"`, out)
			s.press("q", "q")
			s.shows(`exit code 0`)
		})
	}
}

// TestRunnersWithoutSettings runs real test runners as users do, with one failing test, and sees its name.
func TestRunnersWithoutSettings(t *testing.T) {
	t.Parallel()
	js := "const assert = require('node:assert');\n" +
		"describe('berths', () => { it('is deep', () => { assert.equal(4, 3); }); });\n"
	for _, r := range []struct{ tool, run, file, text, fails string }{
		{pytest(), pytest() + " -m pytest", "test_berths.py", "def test_deep():\n    assert 4 == 3\n", "test_deep"},
		{"python3", "python3 -m unittest", "test_berths.py", "import unittest\n\nclass Berths(unittest.TestCase):\n" +
			"    def test_deep(self):\n        self.assertEqual(4, 3)\n", "test_deep"},
		{"jest", "jest --no-watchman --rootDir .", "berths.test.js", js, "berths/is deep"},
		{"mocha", "mocha berths.js", "berths.js", js, "berths/is deep"},
		{"node", "node --test", "berths.test.js",
			"require('node:test')('deep', () => { throw new Error('low'); });\n", "deep"},
		{"prove", "prove -v berths.t", "berths.t", "use Test::More tests => 1;\nis(4, 3, 'deep');\n", "deep"},
		{"bats", "bats berths.bats", "berths.bats", "@test \"deep\" {\n  [ 4 = 3 ]\n}\n", "deep"},
		{"rspec", "rspec berths_spec.rb", "berths_spec.rb",
			"RSpec.describe('berths') { it('is deep') { expect(4).to eq(3) } }\n", "berths is deep"},
		{"cargo", "cargo test --offline", "src/lib.rs",
			"#[test]\nfn deep() {\n    assert_eq!(4, 3);\n}\n", "deep"},
		{"go", "go test ./...", "berths_test.go",
			"package ferries\n\nimport \"testing\"\n\nfunc TestDeep(t *testing.T) { t.Error(\"low\") }\n", "TestDeep"},
	} {
		t.Run(filepath.Base(strings.Fields(r.run)[0])+" "+r.file, func(t *testing.T) {
			if _, err := exec.LookPath(r.tool); err != nil {
				t.Skipf("%s is not installed", r.tool)
			}
			t.Parallel()
			dir := t.TempDir()
			for name, text := range map[string]string{
				r.file: r.text, "go.mod": "module ferries\n\ngo 1.21\n", "package.json": "{}",
				"Cargo.toml":     "[package]\nname = \"ferries\"\nversion = \"0.1.0\"\nedition = \"2021\"\n",
				"omnivigil.toml": fmt.Sprintf("[suite.harbour]\nrun = %q\n", r.run),
			} {
				require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
				require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
			}
			out, err := command([]string{"XDG_STATE_HOME=" + t.TempDir()}, dir, "once", "--trust", "harbour")
			require.Error(t, err, out)
			require.Contains(t, out, "harbour failed (1 test failing: "+r.fails+")", out)
		})
	}
}

// command runs a command of the program in a directory.
func command(env []string, dir string, words ...string) (string, error) {
	program, err := built()
	if err != nil {
		return program, err
	}
	cmd := exec.Command(program, words...)
	cmd.Dir, cmd.Env = dir, append(os.Environ(), env...)
	out, err := cmd.CombinedOutput()
	return string(out), err
}
