// Package project reads a project's files for a draft of its settings, judges what commands do, and collects the units
// that are found. It knows no ecosystem. Start reading at Project.
package project

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"github.com/joho/godotenv"

	"omnivigil/internal/plan"
	"omnivigil/internal/text/escape"
	"omnivigil/internal/text/lazyregexp"
)

// Unit is one of the units of a draft. Paths are relative to the project's directory.
type Unit struct {
	Kind      plan.Kind
	Name      string
	From      string // the file, and the line, from which it was concluded
	Guess     string // what is uncertain; empty: nothing
	Run       string
	Dir       string // empty: the project's directory
	Watch     []string
	Ignore    []string
	Outputs   []string
	Needs     []string
	Follows   []string
	Setup     *Step
	Pass      bool
	MayServe  bool
	Alone     bool
	Manual    bool
	Commented bool // it is only a proposal

	Listens
	Links
	Environment
}

// Environment is where a unit's variables come from.
type Environment struct {
	EnvFiles []string
	Uses     []string // the variables of env files that it uses; nil: unknown
}

// Listens is the address of a unit.
type Listens struct {
	Port int  // that it seems to listen on; 0: unknown
	Sure bool // it listens there
}

// Links are what links a unit to others.
type Links struct {
	Makes   []string // files and directories that it writes
	Runs    []string // files that it runs
	Without []string // patterns of sources that it need not watch if another unit compiles them for it
}

// Step is an installation, shared by all units that have the same.
type Step struct {
	Run, Dir        string
	Inputs, Outputs []string
}

// Project is a project that is being read.
type Project struct {
	Root     string
	Shallow  []string // directories up to two levels below, and "."
	Units    []Unit
	Members  []string // directories with a file of their own
	EnvFiles []string
	Env      map[string]string // the variables in the env files
	Secret   []string          // names of variables
	Notes    []string
	Left     []string
	taken    map[string]bool
	examples map[string]int // programs that run only when asked for, by their top directory
	Ports    map[int]string // the units that listen there
}

// Open reads what is common to all ecosystems of a directory.
func Open(root string) *Project {
	p := &Project{
		Root:     root,
		Env:      map[string]string{},
		taken:    map[string]bool{"omnivigil": true},
		examples: map[string]int{},
		Ports:    map[int]string{},
	}
	p.Shallow = p.directories()
	return p
}

// Note records what was taken from where.
func (p *Project) Note(format string, args ...any) {
	p.Notes = append(p.Notes, escape.Text(fmt.Sprintf(format, args...)))
}

// Leave records something that is left out, and why.
func (p *Project) Leave(format string, args ...any) {
	if what := escape.Text(fmt.Sprintf(format, args...)); !slices.Contains(p.Left, what) {
		p.Left = append(p.Left, what)
	}
}

var notInNames = lazyregexp.New(`[^A-Za-z0-9_-]+`)

// Add adds a unit under a unique name, and returns that.
func (p *Project) Add(u Unit) string {
	name := strings.Trim(notInNames.ReplaceAllString(u.Name, "-"), "-_")
	if name == "" {
		name = u.Kind.String()
	}
	u.Name = name
	for n := 2; p.taken[u.Name]; n++ {
		u.Name = fmt.Sprintf("%s-%d", name, n)
	}
	p.taken[u.Name] = true
	p.Units = append(p.Units, u)
	if !u.Commented {
		note := fmt.Sprintf("[%s.%s] from %s", u.Kind, u.Name, u.From)
		if u.Guess != "" {
			note += "; a guess: " + u.Guess
		}
		p.Note("%s", note)
	}
	return u.Name
}

// maxExamples is how many programs of a directory of examples are drafted.
const maxExamples = 3

// MoreExamples counts a program that is an example, and reports whether there are too many in its top directory.
func (p *Project) MoreExamples(file string) bool {
	top, _, _ := strings.Cut(file, "/")
	p.examples[top]++
	if p.examples[top] <= maxExamples {
		return false
	}
	p.Leave("%s: more programs that are examples or tests", top)
	return true
}

// AddService adds a service. Of many examples only some are added; of two services that listen on the same port, only
// one starts by itself.
func (p *Project) AddService(u Unit, file string) {
	if IsExample(file) {
		if p.MoreExamples(file) {
			return
		}
		u.Manual = true
	}
	name := p.Add(u)
	added := &p.Units[len(p.Units)-1]
	switch other := p.Ports[u.Port]; {
	case u.Port == 0 || u.Manual:
	case other != "":
		added.Manual, added.Guess = true, "it listens on the port of "+other+", so it runs only when asked for"
	default:
		p.Ports[u.Port] = name
	}
}

// WaitFor makes a unit need and follow another.
func (u *Unit) WaitFor(name string) {
	if name == "" || slices.Contains(u.Needs, name) {
		return
	}
	u.Needs, u.Follows = append(u.Needs, name), append(u.Follows, name)
}

// HasEnvFile reports whether a directory has a valid file of variables, .env.
func (p *Project) HasEnvFile(dir string) bool {
	file := path.Join(dir, ".env")
	_, err := godotenv.Unmarshal(p.Read(file))
	return p.Has(file) && err == nil
}

var envPort = lazyregexp.New(`(?m)^(?:export )?PORT=["']?(\d+)`)

// EnvPort returns the port in the env files that a program in a directory reads; 0: there is none.
func (p *Project) EnvPort(dir string) int {
	if m := envPort.FindStringSubmatch(p.Read(path.Join(dir, ".env"))); m != nil {
		return PortOf("PORT=" + m[1])
	}
	return PortOf("PORT=" + p.Env["PORT"])
}
