// Package draft writes a first omnivigil.toml from what a project has: manifests, scripts, targets and sources. It
// reads files and runs nothing. What a script does is judged by its commands, not by its name: nothing that publishes,
// deploys, commits, cleans or rewrites sources is drafted.
//
// Each ecosystem has a file, with a function that reads all its projects in the directory and up to two levels below.
// What they find is linked afterwards: who compiles, and who runs the result. Start reading at Of.
package draft

import (
	"fmt"
	"os"
	"slices"
	"strings"

	"omnivigil/internal/draft/node"
	"omnivigil/internal/draft/project"
)

// Draft is a first settings file.
type Draft struct {
	Text   string   // empty: nothing was recognized
	Notes  []string // what was taken from where, and what is a guess
	Left   []string // what was left out, and why
	Looked string   // what was looked for
	// Members is the same with a file for each directory that has a manifest of its own; nil: fewer than two have one.
	Members *Members
}

// looked is what is looked for.
const looked = "go.mod, go.work, package.json, pyproject.toml, requirements.txt, setup.py, Pipfile, manage.py, " +
	"Cargo.toml, pom.xml, build.gradle, CMakeLists.txt, Makefile, Gemfile, composer.json and compose.yaml, here and " +
	"up to two levels below; in the directory itself also for Python programs that serve, and tests"

// Of drafts the settings of the project in a directory.
func Of(root string) (Draft, error) {
	if _, err := os.ReadDir(root); err != nil {
		return Draft{}, fmt.Errorf("read the project: %w", err)
	}
	p := project.Open(root)
	for _, read := range []func(*project.Project){
		readEnvFiles, readGo, node.Read, readPython, readCargo, readMaven, readGradle, readCMake, readRuby, readPHP,
		readMake, readCompose,
	} {
		read(p)
	}
	d := Draft{Notes: p.Notes, Left: p.Left, Looked: looked}
	if len(p.Units) > 0 {
		link(p)
		d.Text, d.Members = text(p), members(p)
	}
	return d, nil
}

// link connects units that compile with those that run the result: these wait for the first good result, restart after
// each further one, and do not watch the files in between.
func link(p *project.Project) {
	for i := range p.Units {
		u := &p.Units[i]
		if u.Commented {
			continue
		}
		for j := range p.Units {
			maker := &p.Units[j]
			if i == j || maker.Commented || maker.Manual || !makesFor(maker, u) {
				continue
			}
			u.WaitFor(maker.Name)
			u.Watch = slices.DeleteFunc(u.Watch, func(w string) bool { return slices.Contains(u.Without, w) })
			for _, out := range maker.Outputs {
				if !slices.Contains(u.Ignore, out) && len(u.Watch) > 0 {
					u.Ignore = append(u.Ignore, out)
				}
			}
		}
	}
}

// makesFor reports whether a unit writes what another runs.
func makesFor(u, other *project.Unit) bool {
	for _, made := range u.Makes {
		for _, run := range other.Runs {
			if made == run || strings.HasPrefix(run, made+"/") {
				return true
			}
		}
	}
	return false
}
