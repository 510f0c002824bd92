package tree

import (
	"cmp"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"omnivigil/internal/store/contents"
	"omnivigil/internal/watch/pattern"
)

// Restoring is a tree that is to be restored below a directory.
type Restoring struct {
	Root  string
	Store *contents.Store
	// Known returns the sum of the contents of an existing file, if it can be read.
	Known func(file string) (contents.Sum, bool)
	// Remove are paths, as in entries, that are removed if the tree does not have them.
	Remove []string
	// Mark is what the names of temporary files begin with, after pattern.Restoring. They are left behind if this
	// process is killed; see Sweep.
	Mark string
}

// Done is what was changed.
type Done struct{ Written, Removed []string } // paths, as in entries

// Restore makes what is below the directory equal to the tree: missing and different entries are written, each replaced
// as a whole, with the current time in the order of their original times; those that are equal are left untouched. It
// follows no link, and does not leave the directory. It checks everything that it can before it changes anything;
// contents.ErrAbsent: a content is no longer in the store. After any other error some entries may have been replaced.
func (r Restoring) Restore(t Tree) (done Done, err error) {
	if err := t.Check(); err != nil {
		return done, err
	}
	root, err := os.OpenRoot(r.Root)
	if err != nil {
		return done, err
	}
	defer root.Close()
	missing, err := r.missing(root, t)
	if err != nil {
		return done, err
	}
	if done.Removed, err = r.remove(root, t); err != nil {
		return done, err
	}
	slices.SortFunc(missing, func(a, b *Entry) int {
		return cmp.Or(cmp.Compare(a.Time, b.Time), cmp.Compare(a.Path, b.Path))
	})
	times := timesOf(missing)
	byDir := map[string][]*Entry{}
	for _, e := range missing {
		done.Written = append(done.Written, e.Path)
		byDir[path.Dir(e.Path)] = append(byDir[path.Dir(e.Path)], e)
	}
	var work errgroup.Group
	work.SetLimit(max(runtime.NumCPU(), 2))
	for dir, entries := range byDir {
		in, err := openDir(root, dir)
		if err != nil {
			return done, errors.Join(err, work.Wait())
		}
		var rest errgroup.Group // of this directory
		rest.SetLimit(max(runtime.NumCPU(), 2))
		for _, e := range entries {
			rest.Go(func() error {
				if err := r.write(in, e, times[e]); err != nil {
					return fmt.Errorf("restore %s: %w", e.Path, err)
				}
				return nil
			})
		}
		work.Go(func() error {
			defer in.Close()
			return rest.Wait()
		})
	}
	return done, work.Wait()
}

// Sweep removes the temporary files that a restoration of the tree has left behind when its process was killed. What
// cannot be removed stays.
func (r Restoring) Sweep(t Tree) {
	root, err := os.OpenRoot(r.Root)
	if err != nil {
		return
	}
	defer root.Close()
	swept := map[string]bool{}
	for _, e := range t {
		dir := path.Dir(e.Path)
		if swept[dir] || !isReal(root, dir) {
			continue
		}
		swept[dir] = true
		entries, _ := fs.ReadDir(root.FS(), dir)
		for _, found := range entries {
			if strings.HasPrefix(found.Name(), pattern.Restoring+r.Mark) {
				root.Remove(filepath.FromSlash(path.Join(dir, found.Name())))
			}
		}
	}
}

// timesOf are the new times of entries, which are in the order of their old ones: now, and each older one a little
// earlier.
func timesOf(entries []*Entry) map[*Entry]time.Time {
	const step = time.Microsecond
	times := make(map[*Entry]time.Time, len(entries))
	at := time.Now()
	for i := len(entries) - 1; i >= 0; i-- {
		if i < len(entries)-1 && entries[i].Time != entries[i+1].Time {
			at = at.Add(-step)
		}
		times[entries[i]] = at
	}
	return times
}

// missing returns the entries that do not exist as they should. Their contents are in the store.
func (r Restoring) missing(root *os.Root, t Tree) (missing []*Entry, err error) {
	var work errgroup.Group
	work.SetLimit(runtime.NumCPU())
	same := make([]bool, len(t))
	for i := range t {
		work.Go(func() error {
			if same[i] = r.exists(root, &t[i]); !same[i] && t[i].Kind == File && !r.Store.Has(t[i].Content) {
				return contents.ErrAbsent
			}
			return nil
		})
	}
	err = work.Wait()
	for i := range t {
		if !same[i] {
			missing = append(missing, &t[i])
		}
	}
	return missing, err
}

// exists reports whether an entry exists as it should.
func (r Restoring) exists(root *os.Root, e *Entry) bool {
	info, err := root.Lstat(filepath.FromSlash(e.Path))
	if err != nil || !isReal(root, path.Dir(e.Path)) {
		return false
	}
	switch e.Kind {
	case Directory:
		return info.IsDir() && info.Mode().Perm() == e.Mode
	case Link:
		target, err := root.Readlink(filepath.FromSlash(e.Path))
		return err == nil && target == e.Target
	}
	if !info.Mode().IsRegular() || info.Mode().Perm() != e.Mode || info.Size() != e.Content.Size {
		return false
	}
	sum, known := r.Known(filepath.Join(r.Root, filepath.FromSlash(e.Path)))
	return known && sum == e.Content.Sum
}

// isReal reports whether a path leads to a directory without any link.
func isReal(root *os.Root, dir string) bool {
	for ; dir != "."; dir = path.Dir(dir) {
		if info, err := root.Lstat(filepath.FromSlash(dir)); err != nil || !info.IsDir() {
			return false
		}
	}
	return true
}

// remove removes what the tree does not have, and then what has become an empty directory by that.
func (r Restoring) remove(root *os.Root, t Tree) (removed []string, err error) {
	kept := map[string]bool{}
	for _, e := range t {
		for p := e.Path; p != "."; p = path.Dir(p) {
			kept[p] = true
		}
	}
	files := map[string]bool{}
	for _, e := range t {
		files[e.Path] = e.Kind != Directory
	}
	for _, p := range r.Remove {
		if kept[p] && (files[p] || !isFile(root, p)) || !fs.ValidPath(p) || !isReal(root, path.Dir(p)) {
			continue
		}
		switch err := root.Remove(filepath.FromSlash(p)); {
		case errors.Is(err, fs.ErrNotExist):
			continue
		case err != nil:
			return removed, err
		}
		removed = append(removed, p)
		for dir := path.Dir(p); dir != "." && !kept[dir]; dir = path.Dir(dir) {
			if root.Remove(filepath.FromSlash(dir)) != nil { // it is not empty
				break
			}
		}
	}
	return removed, nil
}

// isFile reports whether a path is something else than a directory.
func isFile(root *os.Root, p string) bool {
	info, err := root.Lstat(filepath.FromSlash(p))
	return err == nil && !info.IsDir()
}

// directory is a directory in which entries are restored.
type directory struct {
	*os.Root
	file *os.File // itself
}

func (d *directory) Close() { d.file.Close(); d.Root.Close() }

// openDir opens a directory, which is created if it does not exist, without following links.
func openDir(root *os.Root, dir string) (*directory, error) {
	for p := dir; p != "."; p = path.Dir(p) {
		if isFile(root, p) {
			return nil, fmt.Errorf("%s is not a directory", p)
		}
	}
	name := filepath.FromSlash(dir)
	if err := root.MkdirAll(name, 0o777); err != nil { // and less, by the user's mask
		return nil, err
	}
	in, err := root.OpenRoot(name)
	if err != nil {
		return nil, err
	}
	file, err := in.Open(".")
	if err != nil {
		in.Close()
		return nil, err
	}
	return &directory{in, file}, nil
}

// write writes an entry into its directory.
func (r Restoring) write(in *directory, e *Entry, at time.Time) error {
	name, temporary := path.Base(e.Path), pattern.Restoring+r.Mark+rand.Text()
	if e.Kind == Directory {
		if err := in.Mkdir(name, e.Mode); err != nil && !errors.Is(err, fs.ErrExist) {
			return err
		}
		return in.Chmod(name, e.Mode)
	}
	if e.Kind == File {
		err := newFile(in.file, name, e.Mode, at, func(f *os.File) error { return r.Store.WriteTo(f, e.Content) })
		if !errors.Is(err, errNotNew) {
			return err
		}
	}
	err := r.writeFile(in.Root, temporary, e, at)
	if err == nil {
		if err = in.Rename(temporary, name); err != nil && in.Remove(name) == nil { // an empty directory
			err = in.Rename(temporary, name)
		}
	}
	if err != nil {
		in.Remove(temporary)
	}
	return err
}

// writeFile writes a file, or makes a link.
func (r Restoring) writeFile(in *os.Root, name string, e *Entry, at time.Time) error {
	if e.Kind == Link {
		return in.Symlink(filepath.FromSlash(e.Target), name)
	}
	f, err := in.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	err = r.Store.WriteTo(f, e.Content)
	if err == nil {
		err = f.Chmod(e.Mode)
	}
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	return in.Chtimes(name, at, at)
}
