// Package outputs records what units have made: the files that matched the patterns of their outputs after a
// successful run, and which of them no longer exist. It looks at files and decides nothing. Start reading at
// Outputs.Note.
package outputs

import (
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/engine"
	"omnivigil/internal/plan"
	"omnivigil/internal/session/impact"
	"omnivigil/internal/watch/pattern"
)

// Outputs are the outputs of the units' last successful runs. The zero value is ready for use. Its methods may be
// called from any goroutine.
type Outputs struct {
	mu    sync.Mutex
	of    map[string]Listing
	left  map[string]Listing // by the last run that did not end well
	sizes map[string][]api.MadeByRun
}

// Listing is the files that matched a unit's outputs after a successful run.
type Listing struct {
	run   int
	files map[string]stamp // by path relative to the project's directory, with forward slashes
	Made  []api.Made
	// vanished are the patterns that no longer match: their files were removed while the run ended.
	vanished []string
}

// stamp is what a file looked like.
type stamp struct {
	at   time.Time
	size int64
}

// List returns a unit's existing outputs. It looks at files.
func List(p *plan.Plan, u *plan.Unit) Listing {
	l := Listing{files: map[string]stamp{}}
	for _, output := range u.Outputs {
		made := api.Made{Pattern: output.Text}
		for _, file := range pattern.Files(p.Root, []string{output.Text}) {
			info, err := os.Stat(file)
			if err != nil || !info.Mode().IsRegular() {
				continue
			}
			made.Files++
			made.Size += info.Size()
			if rel, err := filepath.Rel(p.Root, file); err == nil {
				l.files[filepath.ToSlash(rel)] = stamp{info.ModTime(), info.Size()}
			}
		}
		l.Made = append(l.Made, made)
	}
	return l
}

// Oldest is the oldest time of its files; zero: there are none.
func (l Listing) Oldest() time.Time {
	var oldest time.Time
	for _, s := range l.files {
		if oldest.IsZero() || s.at.Before(oldest) {
			oldest = s.at
		}
	}
	return oldest
}

// RelativeTo is a path relative to a directory if it is below that, and otherwise unchanged.
func RelativeTo(folder, file string) string {
	if rel, err := filepath.Rel(folder, file); err == nil && filepath.IsLocal(rel) {
		return filepath.ToSlash(rel)
	}
	return file
}

// keptSizes is how many runs of a unit are remembered.
const keptSizes = 8

// Note records the outputs of a run, and returns the patterns that matched something before and match nothing now.
func (o *Outputs) Note(unit string, run int, l Listing) (vanished []string) {
	total := api.MadeByRun{Run: run}
	for _, made := range l.Made {
		total.Size += made.Size
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.of == nil {
		o.of, o.sizes, o.left = map[string]Listing{}, map[string][]api.MadeByRun{}, map[string]Listing{}
	}
	for _, made := range l.Made {
		if made.Files == 0 &&
			slices.ContainsFunc(
				o.of[unit].Made,
				func(before api.Made) bool { return before.Pattern == made.Pattern && before.Files > 0 },
			) {
			l.vanished = append(l.vanished, made.Pattern)
		}
	}
	l.run = run
	o.of[unit] = l
	delete(o.left, unit)
	all := append(o.sizes[unit], total)
	o.sizes[unit] = all[max(len(all)-keptSizes, 0):]
	return l.vanished
}

// NoteLeft records the outputs that a run has left which did not end well: it may have changed some of them.
func (o *Outputs) NoteLeft(unit string, l Listing) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if _, known := o.of[unit]; known {
		o.left[unit] = l
	}
}

// IsAsLeft reports whether a file is as the last run of its unit left it, or is not one of the outputs of its last good
// run. It looks at the file.
func (o *Outputs) IsAsLeft(root, unit, file string) bool {
	o.mu.Lock()
	last, left := o.of[unit], o.left[unit]
	o.mu.Unlock()
	_, has := left.files[file]
	return last.isAsMade(root, file) || has && left.isAsMade(root, file)
}

// SizesOf returns the sizes of the outputs of a unit's newest runs.
func (o *Outputs) SizesOf(unit string) []api.MadeByRun {
	o.mu.Lock()
	defer o.mu.Unlock()
	return slices.Clone(o.sizes[unit])
}

// Last returns the outputs of a unit's last successful run.
func (o *Outputs) Last(unit string) (l Listing, known bool) {
	o.mu.Lock()
	defer o.mu.Unlock()
	l, known = o.of[unit]
	return l, known
}

// maxMissing limits the missing files that are reported.
const maxMissing = 20

// Missing returns the files of a unit's last good result that no longer exist, and the patterns that no longer match.
// It looks at files.
func (o *Outputs) Missing(root, unit string) []string {
	last, known := o.Last(unit)
	if !known {
		return nil
	}
	var gone []string
	for file := range last.files {
		if _, err := os.Stat(filepath.Join(root, filepath.FromSlash(file))); err != nil {
			gone = append(gone, file)
		}
	}
	for _, glob := range last.vanished {
		if len(pattern.Files(root, []string{glob})) == 0 {
			gone = append(gone, glob)
		}
	}
	slices.Sort(gone)
	return gone[:min(len(gone), maxMissing)]
}

// Newest returns the newest modification time of the files below a unit's directory that do not affect it, as paths
// tells, and that no other unit makes; zero: there are none. It looks at all files there, except below own.
func Newest(p *plan.Plan, u *plan.Unit, paths []string, own string) time.Time {
	inputs := map[string]bool{}
	for _, file := range paths {
		inputs[file] = true
	}
	isOf := func(file string) bool { // and not of another unit
		makers := impact.Makers(p, RelativeTo(p.Root, file))
		return len(makers) == 0 || slices.Contains(makers, u.Name)
	}
	var newest time.Time
	filepath.WalkDir(u.Dir, func(file string, e fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return nil
		case e.IsDir() && (e.Name() == ".git" || file == own):
			return filepath.SkipDir
		case !e.Type().IsRegular() || inputs[file] || pattern.IsNoise(e.Name()):
			return nil
		}
		if info, err := e.Info(); err == nil && info.ModTime().After(newest) && isOf(file) {
			newest = info.ModTime()
		}
		return nil
	})
	return newest
}

// Dated adds file times to the hits of units whose programs compare file times.
func Dated(root string, u *plan.Unit, h engine.Hit) engine.Hit {
	if u.ComparesTimes && h.What != "removed" {
		if info, err := os.Stat(filepath.Join(root, filepath.FromSlash(h.Path))); err == nil {
			h.ModTime = info.ModTime()
		}
	}
	return h
}

// isAsMade reports whether a file is as it is listed, or is not listed.
func (l Listing) isAsMade(root, file string) bool {
	was, made := l.files[file]
	info, err := os.Stat(filepath.Join(root, filepath.FromSlash(file)))
	return !made || err != nil || was == (stamp{info.ModTime(), info.Size()})
}
