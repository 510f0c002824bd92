// Package reuse determines whether the last good result of a task is still valid, across sessions.
//
// It is valid while everything that it depends on is the same: the command, the program's path, size and time, the
// steps before it, the directory, the task's variables and those that its command names, the contents of its inputs
// (those that its rules name, and those that it was seen to read if it is observed), the results of what it needs and
// follows, and its outputs. The state directory holds a record for each task, a JSON file named by a hash of the
// project's directory and the task's name, and an index of the hashes of all files that were read (see Index). Start
// reading at Results.Begin.
package reuse

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"omnivigil/internal/files"
	"omnivigil/internal/plan"
	"omnivigil/internal/text/lazyregexp"
	"omnivigil/internal/watch/pattern"
)

// Results are the last good results of a project's tasks. Its methods may be called from any goroutine.
type Results struct {
	dir   string
	index *Index
	// inputs returns the files that affect a unit, as absolute paths in order.
	inputs func(unit string) []string
}

// In returns the results in the state directory dir, which need not exist. Inputs returns the files that affect a
// unit, as absolute paths in order.
func In(dir, root string, inputs func(unit string) []string) *Results {
	name := sha256.Sum256([]byte(root))
	dir = filepath.Join(dir, "reuse", hex.EncodeToString(name[:8]))
	return &Results{dir, OpenIndex(filepath.Join(dir, "index")), inputs}
}

// Save stores what is known of files for the next session.
func (r *Results) Save() error { return r.index.Save() }

// record is a task's last good run.
type record struct {
	Needed  string        // what the result depends on
	Outputs string        // what was made
	At      time.Time     // when it ended
	Took    time.Duration // from the start of its process
}

// Attempt is a run of a task, from before its start.
type Attempt struct {
	results *Results
	plan    *plan.Plan
	unit    *plan.Unit
	inputs  []string // that affect the unit
	needed  string
	stamps  string
	began   time.Time
	// Holds: the last good result is valid, so the task need not run. At is when that run ended, Took its duration.
	Holds bool
	At    time.Time
	Took  time.Duration
}

// Begin determines whether a task has to run. The error tells what could not be read; then it has to, and its result
// cannot be reused.
func (r *Results) Begin(p *plan.Plan, u *plan.Unit) (*Attempt, error) {
	a := &Attempt{results: r, plan: p, unit: u, inputs: r.inputs(u.Name), began: time.Now()}
	var err error
	if a.needed, a.stamps, err = r.needed(p, u, a.inputs); err != nil {
		return nil, err
	}
	var last record
	data, err := files.Read(r.recordOf(u), files.Sane)
	if err != nil || json.Unmarshal(data, &last) != nil || last.Needed != a.needed {
		return a, nil
	}
	if outputs, err := r.outputs(p, u); err == nil && outputs == last.Outputs {
		a.Holds, a.At, a.Took = true, last.At, last.Took
	}
	return a, nil
}

// Told returns what was passed to EndedWell for the run whose result is valid; nil: unknown.
func (a *Attempt) Told() []byte {
	told, err := files.Read(a.results.toldBy(a.unit), maxTold)
	if err != nil {
		return nil
	}
	return told
}

// maxTold limits what is read of a run's report.
const maxTold = 256 << 20

// EndedWell stores the result of a successful attempt, unless something that it depends on was written in the
// meantime. Told is what to know of the run when its result is reused; nil: nothing. The error tells why it cannot be
// reused.
func (a *Attempt) EndedWell(told []byte) error {
	r := a.results
	needed, stamps, err := r.needed(a.plan, a.unit, a.inputs)
	if err != nil {
		return err
	}
	if needed != a.needed || stamps != a.stamps {
		return nil // what it has read is unknown
	}
	if now := r.inputs(a.unit.Name); !slices.Equal(now, a.inputs) { // it was seen to read more
		if a.changedSince(now) {
			return nil
		}
		if needed, _, err = r.needed(a.plan, a.unit, now); err != nil {
			return err
		}
	}
	outputs, err := r.outputs(a.plan, a.unit)
	if err != nil {
		return err
	}
	now := time.Now()
	last := record{Needed: needed, Outputs: outputs, At: now, Took: now.Sub(a.began)}
	if err := files.KeepCache(r.toldBy(a.unit), func(w io.Writer) error {
		_,
			err := w.Write(told)
		return err
	}); err != nil {
		return fmt.Errorf("remember what %s has told: %w", a.unit.Name, err)
	}
	if err := files.KeepCache(
		r.recordOf(a.unit),
		func(w io.Writer) error { return json.NewEncoder(w).Encode(last) },
	); err != nil {
		return fmt.Errorf("remember the result of %s: %w", a.unit.Name, err)
	}
	return nil
}

// changedSince reports whether one of the files that were not known as inputs when the attempt began was written since
// then.
func (a *Attempt) changedSince(files []string) bool {
	known := map[string]bool{}
	for _, file := range a.inputs {
		known[file] = true
	}
	for _, file := range files {
		if known[file] {
			continue
		}
		if look, err := lookAt(file); err != nil || look.LastChange() >= a.began.UnixNano()-int64(sameTick) {
			return true
		}
	}
	return false
}

func (r *Results) recordOf(u *plan.Unit) string {
	name := sha256.Sum256([]byte(u.Name))
	return filepath.Join(r.dir, hex.EncodeToString(name[:16])+".json")
}

// toldBy is the file with the report of a unit's last good run.
func (r *Results) toldBy(u *plan.Unit) string {
	return strings.TrimSuffix(r.recordOf(u), ".json") + ".told"
}

// needed returns a hash of everything that a unit's result depends on, and a hash of the stamps of its files: files
// that were changed and restored have other stamps.
//
// Inputs are the files that affect the unit.
func (r *Results) needed(p *plan.Plan, u *plan.Unit, inputs []string) (needed, stamps string, err error) {
	n := need{r, p, sha256.New(), sha256.New(), map[string]bool{}}
	if err := n.unit(u, inputs); err != nil {
		return "", "", err
	}
	return hex.EncodeToString(n.all.Sum(nil)), hex.EncodeToString(n.looks.Sum(nil)), nil
}

// need collects what a result depends on.
type need struct {
	*Results
	plan  *plan.Plan
	all   hash.Hash
	looks hash.Hash
	done  map[string]bool
}

// unit adds what a unit depends on, with its inputs, and the units that it waits for.
func (n need) unit(u *plan.Unit, inputs []string) error {
	if n.done[u.Name] {
		return nil
	}
	n.done[u.Name] = true
	fmt.Fprintf(n.all, "%q %q %q %q %q\n", u.Name, u.Run.Argv(), u.Dir, variables(u), Program(u))
	for _, step := range slices.Concat(u.Setup, u.Prelude) {
		fmt.Fprintf(n.all, "%q %q\n", step.Run.Argv(), step.Dir)
	}
	if err := n.files(inputs); err != nil {
		return err
	}
	ups := slices.Concat(u.Needs, u.Follows)
	slices.Sort(ups)
	for _, name := range slices.Compact(ups) {
		if up := n.plan.Unit(name); up != nil {
			if err := n.result(up); err != nil {
				return err
			}
		}
	}
	return nil
}

// result adds the result of a unit: a task's outputs or, without any, its inputs. The behavior of a service depends
// on its files only if it compiles them itself.
func (n need) result(u *plan.Unit) error {
	if len(u.Outputs) > 0 {
		return n.files(outputFiles(n.plan, u))
	}
	var inputs []string
	if u.Kind.Ends() || u.Pass != nil {
		inputs = n.inputs(u.Name)
	}
	return n.unit(u, inputs)
}

func (n need) files(files []string) error {
	for _, file := range files {
		sum, stamp, err := n.index.Sum(file)
		if errors.Is(err, fs.ErrNotExist) {
			continue // it was just removed
		}
		if err != nil {
			return err
		}
		fmt.Fprintf(n.all, "%q %x\n", file, sum)
		fmt.Fprintf(n.looks, "%q %v\n", file, stamp)
	}
	return nil
}

// outputs returns a hash of a task's outputs.
func (r *Results) outputs(p *plan.Plan, u *plan.Unit) (string, error) {
	n := need{r, p, sha256.New(), sha256.New(), nil}
	if err := n.files(outputFiles(p, u)); err != nil {
		return "", err
	}
	return hex.EncodeToString(n.all.Sum(nil)), nil
}

func outputFiles(p *plan.Plan, u *plan.Unit) []string {
	patterns := make([]string, len(u.Outputs))
	for i, o := range u.Outputs {
		patterns[i] = o.Text
	}
	if len(patterns) == 0 {
		return nil
	}
	return pattern.Files(p.Root, patterns)
}

var named = lazyregexp.New(`\$\{?([A-Za-z_][A-Za-z0-9_]*)`)

// variables returns the variables that a result depends on: all that the settings and their files give the unit, and
// those of the machine that its command names.
func variables(u *plan.Unit) []string {
	var out []string
	for _, m := range named.FindAllStringSubmatch(strings.Join(u.Run.Argv(), " "), -1) {
		out = append(out, m[1]+"="+lookup(u, m[1]))
	}
	for _, v := range u.Env {
		out = append(out, v.Name+"="+v.Value)
	}
	return out
}

func lookup(u *plan.Unit, name string) string {
	for i := len(u.Env) - 1; i >= 0; i-- {
		if u.Env[i].Name == name {
			return u.Env[i].Value
		}
	}
	return os.Getenv(name)
}

// Program returns what identifies the program that a unit runs: its path, size and time.
func Program(u *plan.Unit) string {
	name := u.Run.Program()
	path := name
	if strings.ContainsRune(name, filepath.Separator) {
		if !filepath.IsAbs(name) {
			path = filepath.Join(u.Dir, name)
		}
	} else {
		for _, dir := range filepath.SplitList(lookup(u, "PATH")) {
			if found, err := exec.LookPath(filepath.Join(dir, name)); err == nil {
				path = found
				break
			}
		}
	}
	info, err := os.Stat(path)
	if err != nil {
		return name
	}
	return fmt.Sprint(path, info.Size(), info.ModTime().UnixNano())
}
