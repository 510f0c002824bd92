// Package reuse determines whether a result of a task is still valid, or can be restored, across sessions.
//
// A result is valid while everything that it depends on is the same: the command, the program's contents,
// the steps before it, the directory, the task's variables and those that its command names, the contents of its
// inputs (those that its rules name, and those that it was seen to read if it is observed), the results of what it
// needs and follows, and its outputs. Every good result is kept: when what it depends on is as it was then, but the
// outputs are not, these are restored from the store of contents.
//
// The state directory holds an index of the hashes of all files that were read (see Index) and, for each task, a
// directory named by a hash of its name, with a JSON file for each result, named by a hash of what it depends on.
// Start reading at Results.Begin.
package reuse

import (
	"crypto/sha256"
	"encoding/hex"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"omnivigil/internal/plan"
	"omnivigil/internal/store/contents"
	"omnivigil/internal/store/share"
)

// Results are the results of a project's tasks. Its methods may be called from any goroutine.
type Results struct {
	dir   string
	root  string // the project's directory
	index *Index
	store *contents.Store
	// inputs returns the files that affect a unit, as absolute paths in order.
	inputs  func(unit string) []string
	keeping sync.WaitGroup // what stores outputs in the background
	share   *share.Share   // the results of the team; nil: there is none
}

// In returns the results in the state directory dir, which need not exist. Inputs returns the files that affect a
// unit, as absolute paths in order. Outputs are kept in a store; nil: they are not kept.
func In(dir, root string, store *contents.Store, inputs func(unit string) []string) *Results {
	name := sha256.Sum256([]byte(root))
	dir = filepath.Join(dir, "reuse", hex.EncodeToString(name[:8]))
	return &Results{dir: dir, root: root, index: OpenIndex(filepath.Join(dir, "index")), store: store, inputs: inputs}
}

// Share uses a share from now on; nil: none.
func (r *Results) Share(s *share.Share) { r.share = s }

// Save stores what is known of files for the next session. It first waits for everything that Background does.
func (r *Results) Save() error {
	r.keeping.Wait()
	return r.index.Save()
}

// Background runs something that Save waits for.
func (r *Results) Background(do func()) { r.keeping.Go(do) }

// Attempt is a run of a task, from before its start.
type Attempt struct {
	results *Results
	plan    *plan.Plan
	unit    *plan.Unit
	inputs  []string // that affect the unit
	needed  string
	private bool // its key has secret values that no other machine can compute
	stamps  string
	began   time.Time
	earlier *entry   // the result of a run with the same key; nil: there is none
	ended   *entry   // the result of this one, when it has ended well
	unknown bool     // it is not known what the run before has made
	outputs []string // that exist, or were restored: absolute paths
	after   []string // the outputs after the run; nil: they are not listed yet
	// Holds: the earlier result is valid, and its outputs exist, so the task need not run.
	Holds bool
}

// Begin determines whether a task has to run. The error tells what could not be read; then it has to, and its result
// cannot be reused.
func (r *Results) Begin(p *plan.Plan, u *plan.Unit) (*Attempt, error) {
	a := &Attempt{results: r, plan: p, unit: u, inputs: r.inputs(u.Name), began: time.Now()}
	if err := r.sweep(u); err != nil {
		return nil, err
	}
	a.unknown = r.isUnknown(u)
	var err error
	if a.needed, a.stamps, a.private, err = r.needed(p, u, a.inputs); err != nil {
		return nil, err
	}
	if a.earlier = r.load(u, a.needed); a.earlier != nil {
		a.outputs = outputsOf(p, u)
		outputs, err := r.hash(a.outputs)
		a.Holds = err == nil && outputs == a.earlier.Outputs
	}
	return a, nil
}

// IsGone reports whether an output was removed since Begin or Restore found or restored it.
func (a *Attempt) IsGone() bool {
	return slices.ContainsFunc(a.outputs, func(name string) bool {
		_, err := os.Lstat(name)
		return err != nil
	})
}

// At is when the earlier run ended, Took its duration, and Told what was passed to EndedWell for it.
func (a *Attempt) At() time.Time       { return a.earlier.At }
func (a *Attempt) Took() time.Duration { return a.earlier.Took }
func (a *Attempt) Told() []byte        { return a.earlier.Told }

// By is whose machine has made the earlier result: the name of the key that has signed it. Empty: this one.
func (a *Attempt) By() string { return a.earlier.By }

// EndedWell stores the result of a successful attempt, unless something that it depends on was written in the
// meantime. Told is what to know of the run when its result is reused; nil: nothing. The error tells why it cannot be
// reused. It reads the outputs; Keep stores them.
func (a *Attempt) EndedWell(told []byte) error {
	r := a.results
	needed, stamps, _, err := r.needed(a.plan, a.unit, a.inputs)
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
		if needed, _, a.private, err = r.needed(a.plan, a.unit, now); err != nil {
			return err
		}
		a.needed = needed
	}
	outputs, err := r.hash(a.made())
	if err != nil {
		return err
	}
	now := time.Now()
	e := &entry{Outputs: outputs, At: now, Took: now.Sub(a.began), Told: told}
	if before := r.load(a.unit, a.needed); before != nil && before.Outputs == outputs {
		e.Tree, e.Lines = before.Tree, before.Lines
	}
	if err := r.save(a.unit, a.needed, e); err != nil {
		return err
	}
	a.ended = e
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
