// Package setup stores which setup steps are done, across sessions.
//
// A step is done while its command, its directory, the variables that it depends on, the contents of its inputs and
// the presence of its outputs are the same as when it last ended well. Units with the same step share it: it never
// runs twice at a time, and one run counts for all of them. Steps that make the same outputs take turns, since
// package managers interfere with each other.
//
// The state directory holds a digest of what each step depends on, in a file named by a hash of the project's
// directory, the command and its directory. Start reading at Record.Begin.
package setup

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"strings"
	"sync"

	"github.com/bmatcuk/doublestar/v4"

	"omnivigil/internal/files"
	"omnivigil/internal/plan"
	"omnivigil/internal/watch/pattern"
)

// Record is the state of a project's steps. Its methods may be called from any goroutine.
type Record struct {
	dir string

	mu      sync.Mutex
	running map[string]chan struct{} // by what takes turns: full while a unit is running such a step
}

// In returns the record in the state directory dir, which need not exist.
func In(dir string) *Record {
	return &Record{dir: filepath.Join(dir, "setup"), running: map[string]chan struct{}{}}
}

// Done reports whether a step need not run. It does not wait for a unit that is running it. The error tells which
// input could not be read.
func (r *Record) Done(p *plan.Plan, u *plan.Unit, step plan.Step) (bool, error) {
	t := r.turn(p, u, step)
	err := t.look(p, step)
	return t.Done, err
}

func (r *Record) turn(p *plan.Plan, u *plan.Unit, step plan.Step) *Turn {
	return &Turn{
		stamp:  filepath.Join(r.dir, key(p, u, step)),
		digest: func() (string, error) { return digest(p, u, step) },
	}
}

// look determines whether the step is done.
func (t *Turn) look(p *plan.Plan, step plan.Step) error {
	sum, err := t.digest()
	if err != nil {
		return err
	}
	was, _ := files.Read(t.stamp, files.Sane)
	t.Done = string(was) == sum && hasOutputs(p, step)
	return nil
}

// Turn is a unit's turn at a step: no other unit runs it until End.
type Turn struct {
	// Done: the step need not run.
	Done bool

	end    func()
	stamp  string
	digest func() (string, error)
}

// Begin waits until no other unit runs the same step, or one with the same outputs, and determines whether it is
// done. The error tells which input could not be read, or that the context is done.
func (r *Record) Begin(ctx context.Context, p *plan.Plan, u *plan.Unit, step plan.Step) (*Turn, error) {
	k := key(p, u, step)
	if len(step.Outputs) > 0 {
		k = fmt.Sprintf("%q", texts(step.Outputs))
	}
	r.mu.Lock()
	if r.running[k] == nil {
		r.running[k] = make(chan struct{}, 1)
	}
	turn := r.running[k]
	r.mu.Unlock()
	select {
	case turn <- struct{}{}:
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	t := r.turn(p, u, step)
	t.end = func() { <-turn }
	if err := t.look(p, step); err != nil {
		t.end()
		return nil, err
	}
	return t, nil
}

// End ends the turn. A successful step is stored as done; the error tells why that failed.
func (t *Turn) End(well bool) error {
	defer t.end()
	if !well {
		return nil
	}
	sum, err := t.digest() // the step may have written its own inputs, such as a lock file
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(t.stamp), 0o700); err != nil {
		return fmt.Errorf("remember a setup step: %w", err)
	}
	if err := os.WriteFile(t.stamp, []byte(sum), 0o600); err != nil {
		os.Remove(t.stamp)
		return fmt.Errorf("remember a setup step: %w", err)
	}
	return nil
}

func key(p *plan.Plan, u *plan.Unit, step plan.Step) string {
	h := sha256.Sum256(fmt.Appendf(nil, "%q %q %q", p.Root, step.In(u), step.Run.Argv()))
	return hex.EncodeToString(h[:16])
}

// digest returns a hash of what a step's result depends on.
func digest(p *plan.Plan, u *plan.Unit, step plan.Step) (string, error) {
	h := sha256.New()
	fmt.Fprintf(h, "%q %q %q\n", step.Run.Argv(), step.In(u), variables(u, step.Run))
	for _, file := range pattern.Files(p.Root, texts(step.Inputs)) {
		fmt.Fprintf(h, "%q\n", file)
		if err := addFile(h, file); err != nil {
			return "", err
		}
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// variables returns the variables that a step depends on: the unit's own, and those of env files that its command
// names.
func variables(u *plan.Unit, c plan.Command) []string {
	line := strings.Join(c.Argv(), " ")
	var out []string
	for _, v := range u.Env {
		if v.File == "" || strings.Contains(line, "$"+v.Name) || strings.Contains(line, "${"+v.Name) {
			out = append(out, v.Name+"="+v.Value)
		}
	}
	return out
}

func addFile(h io.Writer, file string) error {
	f, err := files.Open(file)
	if err != nil {
		return fmt.Errorf("read the input %s: %w", file, files.Reason(err))
	}
	defer f.Close()
	if _, err := io.Copy(h, f); err != nil {
		return fmt.Errorf("read the input %s: %w", file, err)
	}
	return nil
}

// hasOutputs reports whether each of a step's outputs exists.
func hasOutputs(p *plan.Plan, step plan.Step) bool {
	for _, out := range step.Outputs {
		pattern := path.Join(pattern.Literal(filepath.ToSlash(p.Root)), out.Text)
		found, err := doublestar.FilepathGlob(filepath.FromSlash(pattern))
		if err != nil || len(found) == 0 {
			return false
		}
	}
	return true
}

func texts(patterns []plan.Pattern) []string {
	var out []string
	for _, p := range patterns {
		out = append(out, p.Text)
	}
	return out
}
