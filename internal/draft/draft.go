// Package draft writes a first omnivigil.toml from a project's manifests, scripts and targets. It reads files and
// runs nothing. Each ecosystem has a file. Start reading at Of.
package draft

import (
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"omnivigil/internal/plan"
	"omnivigil/internal/text/escape"
	"omnivigil/internal/text/lazyregexp"
	"omnivigil/internal/watch/pattern"
)

// Draft is a first settings file.
type Draft struct {
	Text  string
	Notes []string // what was taken from where, and what is a guess
}

// unit is one of the units of a draft.
type unit struct {
	kind      plan.Kind
	name      string
	from      string // where it was found
	guess     string // what is uncertain; empty: nothing
	run       string
	dir       string // relative; empty: the project's directory
	watch     []string
	ignore    []string
	needs     []string
	follows   []string
	setup     *step
	port      int // that it seems to listen on; 0: unknown
	pass      bool
	manual    bool
	commented bool // it is only a proposal
}

type step struct {
	run             string
	inputs, outputs []string
}

// project is a project that is being read.
type project struct {
	root     string
	units    []unit
	envFiles []string
	notes    []string
	taken    map[string]bool
}

// Of drafts the settings of the project in a directory.
func Of(root string) (Draft, error) {
	if _, err := os.ReadDir(root); err != nil {
		return Draft{}, fmt.Errorf("read the project: %w", err)
	}
	p := &project{root: root, taken: map[string]bool{"omnivigil": true}}
	for _, read := range []func(*project){readGo, readNode, readPython, readCargo, readMake, readCompose,
		readEnvFiles} {
		read(p)
	}
	if !slices.ContainsFunc(p.units, func(u unit) bool { return !u.commented }) {
		p.note("nothing was found that could be run: the draft has an example")
		p.add(
			unit{
				kind:  plan.Task,
				name:  "hello",
				from:  "an example: put your own command here",
				run:   "echo hello from Omnivigil",
				watch: []string{"**"},
			},
		)
	}
	return Draft{p.text(), p.notes}, nil
}

func (p *project) note(format string, args ...any) {
	p.notes = append(p.notes, escape.Text(fmt.Sprintf(format, args...)))
}

var notInNames = lazyregexp.New(`[^A-Za-z0-9_-]+`)

// add adds a unit under a unique name, and returns that.
func (p *project) add(u unit) string {
	name := strings.Trim(notInNames.ReplaceAllString(u.name, "-"), "-_")
	if name == "" {
		name = u.kind.String()
	}
	u.name = name
	for n := 2; p.taken[u.name]; n++ {
		u.name = fmt.Sprintf("%s-%d", name, n)
	}
	p.taken[u.name] = true
	p.units = append(p.units, u)
	if !u.commented {
		note := fmt.Sprintf("[%s.%s] from %s", u.kind, u.name, u.from)
		if u.guess != "" {
			note += "; a guess: " + u.guess
		}
		p.note("%s", note)
	}
	return u.name
}

// read returns a file's text; "": it cannot be read.
func (p *project) read(name string) string {
	const most = 1 << 20
	info, err := os.Stat(filepath.Join(p.root, name))
	if err != nil || !info.Mode().IsRegular() || info.Size() > most {
		return ""
	}
	text, _ := os.ReadFile(filepath.Join(p.root, name))
	return string(text)
}

func (p *project) has(name string) bool {
	_, err := os.Stat(filepath.Join(p.root, name))
	return err == nil
}

// first returns the first of several files that exists, or "".
func (p *project) first(names ...string) string {
	for _, name := range names {
		if p.has(name) {
			return name
		}
	}
	return ""
}

// maxFiles limits the files that are read in one project.
const maxFiles = 20_000

// files calls take with every file with one of the extensions, relative to the project's directory, except vendored,
// installed and hidden ones.
func (p *project) files(take func(name string), endings ...string) {
	n := 0
	filepath.WalkDir(p.root, func(file string, e fs.DirEntry, err error) error {
		if err != nil {
			return nil
		}
		name := e.Name()
		if e.IsDir() {
			if file != p.root &&
				(strings.HasPrefix(name, ".") || slices.Contains([]string{"node_modules", "vendor", "testdata",
					"target", "dist", "build", "venv"}, name)) {
				return fs.SkipDir
			}
			return nil
		}
		if n++; n > maxFiles {
			return fs.SkipAll
		}
		if slices.Contains(endings, filepath.Ext(name)) {
			if rel, err := filepath.Rel(p.root, file); err == nil {
				take(filepath.ToSlash(rel))
			}
		}
		return nil
	})
}

// in prefixes patterns with a directory, whose characters are escaped.
func in(dir string, patterns ...string) []string {
	out := make([]string, len(patterns))
	for i, p := range patterns {
		out[i] = path.Join(pattern.Literal(dir), p)
	}
	return out
}

var portIn = lazyregexp.New(
	`(?:PORT=|--port[ =]|-p |listen\(|ListenAndServe\(["'][^"']*:|[Ll]isten\([^)]*:|runserver [0-9.]*:?` +
		`|http\.server )([1-9][0-9]{3,4})\b`,
)

// portOf returns the port that a command or source seems to listen on; 0: none.
func portOf(text string) int {
	port := 0
	if m := portIn.FindStringSubmatch(text); m != nil {
		fmt.Sscan(m[1], &port)
	}
	if port > 65535 {
		return 0
	}
	return port
}

// readEnvFiles finds files of variables.
func readEnvFiles(p *project) {
	for _, name := range []string{".env.local", ".env"} {
		if p.has(name) {
			p.envFiles = append(p.envFiles, name)
		}
	}
	if len(p.envFiles) > 0 {
		p.note("[project] env_files from %s", strings.Join(p.envFiles, " and "))
	}
}
