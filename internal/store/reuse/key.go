package reuse

import (
	"crypto/hmac"
	"crypto/rand"
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
	"runtime"
	"slices"
	"strings"

	"omnivigil/internal/files"
	"omnivigil/internal/plan"
	"omnivigil/internal/text/lazyregexp"
	"omnivigil/internal/watch/pattern"
)

// keyVersion is a part of each key. It changes when what a key is made of does.
const keyVersion = 3

// needed returns a hash of everything that a unit's result depends on, and a hash of the stamps of its files: files
// that were changed and restored have other stamps. The first is the same on each machine, as docs/store.md describes,
// unless it depends on secret values and the team has no common secret: then it is said to be private.
//
// Inputs are the files that affect the unit.
func (r *Results) needed(p *plan.Plan, u *plan.Unit, inputs []string) (needed, stamps string, private bool, err error) {
	n := newNeed(r, p)
	n.add("omnivigil", keyVersion, runtime.GOOS, runtime.GOARCH)
	if err := n.unit(u, inputs); err != nil {
		return "", "", false, err
	}
	return hex.EncodeToString(n.all.Sum(nil)), hex.EncodeToString(n.looks.Sum(nil)), n.private, nil
}

// need collects what a result depends on.
type need struct {
	*Results
	plan    *plan.Plan
	all     hash.Hash
	looks   hash.Hash
	done    map[string]bool
	private bool // it depends on secret values, and only this user could compute its key
}

func newNeed(r *Results, p *plan.Plan) *need {
	return &need{Results: r, plan: p, all: sha256.New(), looks: sha256.New(), done: map[string]bool{}}
}

// add adds a line of values to the hash, as JSON.
func (n *need) add(values ...any) {
	line := json.NewEncoder(n.all)
	line.SetEscapeHTML(false)
	if err := line.Encode(values); err != nil { // all are texts, lists of texts and numbers
		panic(err)
	}
}

// rel is a path relative to the project's directory, with forward slashes, so that it is the same on each machine.
func (r *Results) rel(name string) string {
	if rel, err := filepath.Rel(r.root, name); err == nil {
		return filepath.ToSlash(rel)
	}
	return filepath.ToSlash(name)
}

// unit adds what a unit depends on, with its inputs, and the units that it waits for.
func (n *need) unit(u *plan.Unit, inputs []string) error {
	if n.done[u.Name] {
		return nil
	}
	n.done[u.Name] = true
	variables, err := n.variables(u)
	if err != nil {
		return err
	}
	n.add("unit", u.Name, u.Run.AsWritten(), n.rel(u.Dir), variables)
	n.program(u)
	for _, step := range slices.Concat(u.Setup, u.Prelude) {
		n.add("step", step.Run.AsWritten(), n.rel(step.In(u)))
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

// program adds the program that a unit runs: its contents.
func (n *need) program(u *plan.Unit) {
	if file := programFile(u); filepath.IsAbs(file) {
		if sum, _, err := n.index.Sum(file); err == nil {
			n.add("program", sum.String())
			return
		}
	}
	n.add("program", u.Run.Program()) // such as a builtin of the shell
}

// result adds the result of a unit: a task's outputs or, without any, its inputs. The behavior of a service depends
// on its files only if it compiles them itself.
func (n *need) result(u *plan.Unit) error {
	if len(u.Outputs) > 0 {
		return n.made(outputsOf(n.plan, u))
	}
	var inputs []string
	if u.Kind.Ends() || u.Pass != nil {
		inputs = n.inputs(u.Name)
	}
	return n.unit(u, inputs)
}

func (n *need) files(files []string) error {
	for _, file := range files {
		sum, stamp, err := n.index.Sum(file)
		if errors.Is(err, fs.ErrNotExist) {
			continue // it was just removed
		}
		if err != nil {
			return err
		}
		n.add("file", n.rel(file), sum.String())
		fmt.Fprintf(n.looks, "%q %v\n", file, stamp)
	}
	return nil
}

// outputs returns a hash of a task's outputs.
func (r *Results) outputs(p *plan.Plan, u *plan.Unit) (string, error) { return r.hash(outputsOf(p, u)) }

// hash returns a hash of outputs.
func (r *Results) hash(outputs []string) (string, error) {
	n := newNeed(r, nil)
	if err := n.made(outputs); err != nil {
		return "", err
	}
	return hex.EncodeToString(n.all.Sum(nil)), nil
}

// made adds outputs: files with their permissions, links, and empty directories.
func (n *need) made(names []string) error {
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
		n.add("output", n.rel(name), info.Mode().String(), filepath.ToSlash(target))
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
// those of the machine that its command names. Secret values enter only as a code, so that no key tells them.
func (n *need) variables(u *plan.Unit) (out []string, err error) {
	add := func(name, value string) {
		if n.plan.IsSecret(name) && value != "" && err == nil {
			var code string
			code, err = n.code(name + "=" + value)
			value = "hmac-sha256:" + code
		}
		out = append(out, name+"="+value)
	}
	for _, m := range named.FindAllStringSubmatch(strings.Join(u.Run.AsWritten(), " "), -1) {
		add(m[1], lookup(u, m[1]))
	}
	for _, v := range u.Env {
		add(v.Name, v.Value)
	}
	return out, err
}

// code returns the code of a secret variable, with the secret of the team or, if it has none, with that of this user.
func (n *need) code(variable string) (string, error) {
	var secret []byte
	if n.share != nil {
		secret = n.share.Secret
	}
	if len(secret) == 0 {
		n.private = true
		var err error
		if secret, err = n.ownSecret(); err != nil {
			return "", err
		}
	}
	code := hmac.New(sha256.New, secret)
	io.WriteString(code, variable)
	return hex.EncodeToString(code.Sum(nil)), nil
}

// ownSecret is a secret of this user, which is created when it is needed for the first time.
func (r *Results) ownSecret() ([]byte, error) {
	file := filepath.Join(filepath.Dir(r.dir), "secret")
	const size = 32
	data, err := files.Read(file, size)
	switch {
	case err == nil && len(data) == size:
		return data, nil
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		return nil, err
	}
	data = make([]byte, size)
	rand.Read(data)
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return nil, err
	}
	return data, files.Replace(file, data, 0o600)
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
	file := programFile(u)
	info, err := os.Stat(file)
	if err != nil {
		return u.Run.Program()
	}
	return fmt.Sprint(file, info.Size(), info.ModTime().UnixNano())
}

// programFile returns the path of the program that a unit runs, if it is found, or else its name.
func programFile(u *plan.Unit) string {
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
	return path
}
