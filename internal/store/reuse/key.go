package reuse

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"omnivigil/internal/plan"
	"omnivigil/internal/text/lazyregexp"
	"omnivigil/internal/watch/pattern"
)

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
		return n.made(outputsOf(n.plan, u))
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
func (r *Results) outputs(p *plan.Plan, u *plan.Unit) (string, error) { return r.hash(outputsOf(p, u)) }

// hash returns a hash of outputs.
func (r *Results) hash(outputs []string) (string, error) {
	n := need{r, nil, sha256.New(), sha256.New(), nil}
	if err := n.made(outputs); err != nil {
		return "", err
	}
	return hex.EncodeToString(n.all.Sum(nil)), nil
}

// made adds outputs: files with their permissions, links, and empty directories.
func (n need) made(names []string) error {
	for _, name := range names {
		info, err := os.Lstat(name)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			continue // it was just removed
		case err != nil:
			return err
		case info.Mode().IsRegular():
			if err := n.files([]string{name}); err != nil {
				return err
			}
		}
		target := ""
		if info.Mode()&fs.ModeSymlink != 0 {
			if target, err = os.Readlink(name); err != nil {
				return err
			}
		}
		fmt.Fprintf(n.all, "%q %v %q\n", name, info.Mode(), target)
	}
	return nil
}

// outputsOf returns the existing outputs of a unit, as absolute paths in order.
func outputsOf(p *plan.Plan, u *plan.Unit) []string {
	patterns := make([]string, len(u.Outputs))
	for i, o := range u.Outputs {
		patterns[i] = o.Text
	}
	if len(patterns) == 0 {
		return nil
	}
	return pattern.Everything(p.Root, patterns)
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
