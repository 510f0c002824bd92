// Package outputs knows what units have made: the files that the patterns of their outputs matched when a run had ended
// well, and which of them are not there any more. It looks at files and decides nothing. Start reading at Outputs.Note.
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

// Outputs are what units have made in their last good runs. The zero value is ready to use. Its methods may be called
// from any goroutine.
type Outputs struct {
	mu    sync.Mutex
	of    map[string]Listing
	sizes map[string][]api.MadeByRun
}

// Listing is what the patterns of a unit's outputs matched when a run had ended well.
type Listing struct {
	run   int
	files map[string]stamp // by path relative to the project's folder, with forward slashes
	Made  []api.Made
	// vanished are the patterns that match nothing any more: something was removed in the moment that it was made.
	vanished []string
}

// stamp is what a file looked like.
type stamp struct {
	at   time.Time
	size int64
}

// List returns what is there of a unit's outputs. It looks at files.
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

// Oldest is the oldest time of its files, zero where there are none.
func (l Listing) Oldest() time.Time {
	var oldest time.Time
	for _, s := range l.files {
		if oldest.IsZero() || s.at.Before(oldest) {
			oldest = s.at
		}
	}
	return oldest
}

// RelativeTo is a file's path relative to a folder where it is below that, else as it is.
func RelativeTo(folder, file string) string {
	if rel, err := filepath.Rel(folder, file); err == nil && filepath.IsLocal(rel) {
		return filepath.ToSlash(rel)
	}
	return file
}

// keptSizes is how many runs are remembered of a unit.
const keptSizes = 8

// Note remembers what a run has made, and returns which patterns match nothing that matched something before.
func (o *Outputs) Note(unit string, run int, l Listing) (vanished []string) {
	total := api.MadeByRun{Run: run}
	for _, made := range l.Made {
		total.Size += made.Size
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.of == nil {
		o.of, o.sizes = map[string]Listing{}, map[string][]api.MadeByRun{}
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
	all := append(o.sizes[unit], total)
	o.sizes[unit] = all[max(len(all)-keptSizes, 0):]
	return l.vanished
}

// SizesOf returns how much the newest runs of a unit have made.
func (o *Outputs) SizesOf(unit string) []api.MadeByRun {
	o.mu.Lock()
	defer o.mu.Unlock()
	return slices.Clone(o.sizes[unit])
}

// Last returns what a unit's last good run has made.
func (o *Outputs) Last(unit string) (l Listing, known bool) {
	o.mu.Lock()
	defer o.mu.Unlock()
	l, known = o.of[unit]
	return l, known
}

// maxMissing is how many missing files are reported.
const maxMissing = 20

// Missing returns which files of a unit's last good result are not there any more, and which patterns match nothing
// any more. It looks at files.
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

// Newest returns the newest modification time of the files below a unit's directory which do not concern it, as paths
// do, and which no other unit makes; zero: there are none. It looks at all files there, but not below own.
func Newest(p *plan.Plan, u *plan.Unit, paths []string, own string) time.Time {
	inputs := map[string]bool{}
	for _, file := range paths {
		inputs[file] = true
	}
	isOf := func(file string) bool { // rather than another unit's
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

// Dated gives hits of units whose programs compare file times the times of their files.
func Dated(root string, u *plan.Unit, h engine.Hit) engine.Hit {
	if u.ComparesTimes && h.What != "removed" {
		if info, err := os.Stat(filepath.Join(root, filepath.FromSlash(h.Path))); err == nil {
			h.ModTime = info.ModTime()
		}
	}
	return h
}

// IsAsMade reports whether a file is as the last good run of its unit left it, or was not made by that.
func (l Listing) IsAsMade(root, file string) bool {
	was, made := l.files[file]
	info, err := os.Stat(filepath.Join(root, filepath.FromSlash(file)))
	return !made || err != nil || was == (stamp{info.ModTime(), info.Size()})
}
