package reuse

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"time"

	"omnivigil/internal/files"
	"omnivigil/internal/plan"
	"omnivigil/internal/store/contents"
	"omnivigil/internal/store/tree"
	"omnivigil/internal/watch/pattern"
	"omnivigil/internal/watch/stamp"
)

// entry is a good result of a task.
type entry struct {
	Outputs string            `json:"outputs"` // a hash of what was made
	At      time.Time         `json:"at"`      // when it ended
	Took    time.Duration     `json:"took"`    // from the start of its process
	Told    []byte            `json:"told,omitempty"`
	Tree    *contents.Content `json:"tree,omitempty"`   // the outputs, a tree.Tree as JSON; nil: they are not kept
	Lines   *contents.Content `json:"lines,omitempty"`  // the output, an array of lines as JSON
	By      string            `json:"by,omitempty"`     // the name of the key that has signed it, if it was shared
	Signer  string            `json:"signer,omitempty"` // the ID of that key
}

const (
	maxEntry   = 256 << 20 // bytes of an entry
	maxStored  = 64 << 20  // bytes of a tree or of lines
	maxEntries = 200       // of a task
)

// folder is the directory of a unit's results.
func (r *Results) folder(u *plan.Unit) string {
	name := sha256.Sum256([]byte(u.Name))
	return filepath.Join(r.dir, hex.EncodeToString(name[:16]))
}

func (r *Results) fileOf(u *plan.Unit, needed string) string {
	return filepath.Join(r.folder(u), needed+".json")
}

// load returns the result of a unit with a key; nil: there is none that may be used.
func (r *Results) load(u *plan.Unit, needed string) *entry {
	data, err := files.Read(r.fileOf(u, needed), maxEntry)
	e := &entry{}
	if err != nil || json.Unmarshal(data, e) != nil || !r.mayUse(e) {
		return nil
	}
	return e
}

// save stores a result, and deletes the oldest ones if there are too many.
func (r *Results) save(u *plan.Unit, needed string, e *entry) error {
	err := files.KeepCache(r.fileOf(u, needed), func(w io.Writer) error { return json.NewEncoder(w).Encode(e) })
	if err != nil {
		return fmt.Errorf("remember the result of %s: %w", u.Name, err)
	}
	all, err := filepath.Glob(r.fileOf(u, "*"))
	if err != nil || len(all) <= maxEntries {
		return err
	}
	used := map[string]time.Time{}
	for _, file := range all {
		if info, err := os.Stat(file); err == nil {
			used[file] = info.ModTime()
		}
	}
	slices.SortFunc(all, func(a, b string) int { return used[a].Compare(used[b]) })
	for _, file := range all[:len(all)-maxEntries] {
		os.Remove(file) // otherwise the next time
	}
	return nil
}

// madeFile has the paths of the outputs that runs of a unit have made, relative to the project's directory, as JSON.
func (r *Results) madeFile(u *plan.Unit) string { return filepath.Join(r.folder(u), "made") }

// madeBy returns the outputs that runs of a unit have made, and that still exist or not.
func (r *Results) madeBy(u *plan.Unit) (paths []string) {
	data, err := files.Read(r.madeFile(u), maxStored)
	if err != nil || json.Unmarshal(data, &paths) != nil {
		return nil
	}
	return paths
}

func (r *Results) setMade(u *plan.Unit, paths []string) error {
	slices.Sort(paths)
	paths = slices.Compact(paths)
	err := files.KeepCache(r.madeFile(u), func(w io.Writer) error { return json.NewEncoder(w).Encode(paths) })
	if err != nil {
		return fmt.Errorf("remember what %s has made: %w", u.Name, err)
	}
	return nil
}

// Starts records that the task runs now. If this process is killed, so that it is not known what the run has made, the
// task runs again instead of being restored.
func (a *Attempt) Starts() error {
	file := a.results.beganFile(a.unit)
	if err := files.KeepCache(file, files.Bytes(nil)); err != nil {
		return fmt.Errorf("remember that %s runs: %w", a.unit.Name, err)
	}
	return nil
}

// Ended records which outputs the run has made, whether it has ended well or not.
func (a *Attempt) Ended() error {
	return a.results.noteMade(a.unit, a.made(), a.began.UnixNano())
}

// made returns the outputs after the run, which are listed once.
func (a *Attempt) made() []string {
	if a.after == nil {
		a.after = outputsOf(a.plan, a.unit)
	}
	return a.after
}

// beganFile exists while a unit runs.
func (r *Results) beganFile(u *plan.Unit) string { return filepath.Join(r.folder(u), "began") }

// isUnknown reports whether the end of a run was not recorded, because the process was killed.
func (r *Results) isUnknown(u *plan.Unit) bool {
	_, err := os.Lstat(r.beganFile(u))
	return !errors.Is(err, fs.ErrNotExist)
}

// noteMade records which outputs runs of the unit have made: one that began at a time in nanoseconds, or an earlier
// one.
func (r *Results) noteMade(u *plan.Unit, outputs []string, began int64) error {
	if err := r.setMade(u, r.madeSince(u, outputs, began)); err != nil {
		return err
	}
	if err := os.Remove(r.beganFile(u)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// madeSince returns which outputs were made by runs of the unit: those written since a time in nanoseconds, and those
// that were known before.
func (r *Results) madeSince(u *plan.Unit, outputs []string, began int64) (made []string) {
	before := map[string]bool{}
	for _, made := range r.madeBy(u) {
		before[made] = true
	}
	for _, name := range outputs {
		rel := r.rel(name)
		info, err := os.Lstat(name)
		if before[rel] || err == nil && stamp.Of(info).LastChange() >= began-int64(sameTick) {
			made = append(made, rel)
		}
	}
	return made
}

// Keep stores the outputs of an attempt that has ended well, so that they can be restored, and the lines of its output.
// Different are outputs that differ from those of an earlier run with the same key: then the task is not deterministic.
// The error tells why the outputs are not kept. It blocks while it reads and writes files.
func (a *Attempt) Keep(lines []string) (different []string, err error) {
	r := a.results
	if a.ended == nil || r.store == nil || len(a.unit.Outputs) == 0 {
		return nil, nil
	}
	t, err := tree.Capture(a.plan.Root, outputsOf(a.plan, a.unit), r.store, r.Sum, a.unit.KeepOutputs)
	if err != nil {
		return nil, err
	}
	if outputs, err := r.outputs(a.plan, a.unit); err != nil || outputs != a.ended.Outputs {
		return nil, err // they are those of a later run
	}
	if before := a.earlier; before != nil && before.Tree != nil && before.Outputs != a.ended.Outputs {
		if was, err := r.tree(before); err == nil {
			different = t.Differences(was)
		}
	}
	if a.ended.Tree, err = r.add(t); err != nil {
		return different, err
	}
	if a.ended.Lines, err = r.add(lines); err != nil {
		return different, err
	}
	if err := r.save(a.unit, a.needed, a.ended); err != nil {
		return different, err
	}
	a.send(t)
	return different, r.store.Tidy()
}

// Sum returns the sum of the contents of a file; false: it cannot be read. A file that looks as when it was read last
// is not read again.
func (r *Results) Sum(file string) (contents.Sum, bool) {
	sum, _, err := r.index.Sum(file)
	return sum, err == nil
}

// add stores a value as JSON.
func (r *Results) add(value any) (*contents.Content, error) {
	data, err := json.Marshal(value)
	if err != nil {
		return nil, err
	}
	c, err := r.store.Add(data)
	return &c, err
}

// read reads what add has stored.
func (r *Results) read(c *contents.Content, into any) error {
	if c == nil {
		return contents.ErrAbsent
	}
	data, err := r.store.Read(*c, maxStored)
	if err != nil {
		return err
	}
	return json.Unmarshal(data, into)
}

// tree returns the outputs of a result.
func (r *Results) tree(e *entry) (t tree.Tree, err error) { return t, r.read(e.Tree, &t) }

// IsKept reports whether the outputs of the earlier result can probably be restored.
func (a *Attempt) IsKept() bool {
	e, store := a.earlier, a.results.store
	return store != nil && !a.unknown && e != nil && e.Tree != nil && store.Has(*e.Tree)
}

// Restored is what Restore has done.
type Restored struct {
	tree.Done
	Lines []string // of the output of the run
}

// Restore makes the outputs what the earlier run with the same key has made of them. It removes outputs which that run
// did not make, if another run of the task made them. contents.ErrAbsent: they are no longer kept. After any other
// error some of them may have been restored. It blocks while it reads and writes files.
func (a *Attempt) Restore() (done Restored, err error) {
	r := a.results
	t, err := r.tree(a.earlier)
	if err != nil {
		return done, errors.Join(contents.ErrAbsent, err)
	}
	if err := covers(a.plan, a.unit, t); err != nil {
		return done, err
	}
	made := r.madeBy(a.unit)
	a.outputs = r.absolute(t)
	if err := r.noteRestoring(a.unit, a.earlier.Tree); err != nil {
		return done, err
	}
	restoring := r.restoring(a.unit)
	restoring.Remove = made
	done.Done, err = restoring.Restore(t)
	os.Remove(r.restoringFile(a.unit)) // otherwise nothing is found to sweep
	for _, p := range done.Removed {
		made = slices.DeleteFunc(made, func(one string) bool { return one == p })
	}
	if err := errors.Join(err, r.setMade(a.unit, append(made, done.Written...))); err != nil {
		return done, err
	}
	if a.earlier.Lines != nil {
		if err := r.read(a.earlier.Lines, &done.Lines); err != nil { // only its output is missing
			done.Lines = nil
		}
	}
	now := time.Now()
	os.Chtimes(r.fileOf(a.unit, a.needed), now, now) // so that it is not deleted as one of the oldest
	return done, nil
}

// restoring is what restores outputs of a unit.
func (r *Results) restoring(u *plan.Unit) tree.Restoring {
	return tree.Restoring{Root: r.root, Store: r.store, Known: r.Sum, Mark: filepath.Base(r.folder(u)) + "-"}
}

// restoringFile exists while outputs of a unit are restored, and refers to their tree.
func (r *Results) restoringFile(u *plan.Unit) string { return filepath.Join(r.folder(u), "restoring") }

func (r *Results) noteRestoring(u *plan.Unit, t *contents.Content) error {
	err := files.KeepCache(r.restoringFile(u), func(w io.Writer) error { return json.NewEncoder(w).Encode(t) })
	if err != nil {
		return fmt.Errorf("remember that outputs of %s are restored: %w", u.Name, err)
	}
	return nil
}

// sweep removes what is left of a restoration whose process was killed, and records what that one has restored.
func (r *Results) sweep(u *plan.Unit) error {
	file := r.restoringFile(u)
	info, err := os.Lstat(file)
	if err != nil || r.store == nil {
		return nil
	}
	data, err := files.Read(file, maxEntry)
	var c *contents.Content
	var t tree.Tree
	if err == nil && json.Unmarshal(data, &c) == nil && r.read(c, &t) == nil && t.Check() == nil {
		r.restoring(u).Sweep(t)
		restored := r.madeSince(u, r.absolute(t), info.ModTime().UnixNano())
		if err := r.setMade(u, append(r.madeBy(u), restored...)); err != nil {
			return err
		}
	}
	return os.Remove(file)
}

// absolute are the absolute paths of the entries of a tree.
func (r *Results) absolute(t tree.Tree) (paths []string) {
	for _, e := range t {
		paths = append(paths, filepath.Join(r.root, filepath.FromSlash(e.Path)))
	}
	return paths
}

// covers returns an error if a tree has something that is not an output of the unit.
func covers(p *plan.Plan, u *plan.Unit, t tree.Tree) error {
	var patterns []pattern.Pattern
	for _, o := range u.Outputs {
		patterns = append(patterns, pattern.Compile(p.Root, o.Text))
	}
	for _, e := range t {
		name := path.Join(filepath.ToSlash(p.Root), e.Path)
		if e.Kind == tree.Directory {
			name = path.Join(name, "any")
		}
		if !slices.ContainsFunc(patterns, func(p pattern.Pattern) bool { return p.Covers(name) }) {
			return fmt.Errorf("%s is no output of %s", e.Path, u.Name)
		}
	}
	return nil
}
