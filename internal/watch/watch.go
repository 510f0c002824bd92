// Package watch turns the file events of a tree of folders into changes at rest.
//
// Only folders that some interest's patterns can reach are watched; a new folder
// among them is watched, and what is already in it is told, the moment it
// appears. The package knows nothing of units and processes: an interest is a
// key, patterns and a lull.
package watch

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"github.com/fsnotify/fsnotify"
)

// Watcher watches a tree for some interests. Its methods may be called from any
// goroutine.
type Watcher struct {
	root      string // with forward slashes
	interests []interest
	kernel    *fsnotify.Watcher
	dirs      map[string]bool // watched folders
	events    chan Event
	next      chan wanted
	closing   chan struct{}
	bursts    bursts
}

// interest is an Interest with its patterns compiled.
type interest struct {
	Interest
	rules  []pattern
	ignore []pattern
}

func compileInterest(root string, in Interest) interest {
	c := interest{Interest: in}
	for _, r := range in.Rules {
		c.rules = append(c.rules, compile(root, r.Pattern))
	}
	for _, p := range in.Ignore {
		c.ignore = append(c.ignore, compile(root, strings.TrimSuffix(p, "/")))
	}
	return c
}

// Open starts to watch the folder root for the interests. When it returns, every
// later write to a file that concerns one of them will be told.
func Open(root string, interests []Interest) (*Watcher, error) {
	root = filepath.ToSlash(root)
	kernel, err := fsnotify.NewWatcher()
	if err != nil {
		return nil, fmt.Errorf("ask the system for file events: %w", err)
	}
	w := &Watcher{
		root: root, kernel: kernel, dirs: map[string]bool{},
		events: make(chan Event, 64), next: make(chan wanted, 1), closing: make(chan struct{}),
		bursts: newBursts(),
	}
	for _, in := range interests {
		w.interests = append(w.interests, compileInterest(root, in))
	}
	if err := w.watchAll(); err != nil {
		kernel.Close()
		return nil, err
	}
	go w.loop()
	return w, nil
}

// Events returns the channel on which changes are told. It is closed after Close.
func (w *Watcher) Events() <-chan Event { return w.events }

// wanted are interests that the loop has not taken up yet.
type wanted struct {
	interests []Interest
	number    int
}

// SetInterests replaces what is watched for. It returns at once; a Watching event
// with that number tells when it is done. Of several that come before the watcher
// gets to them, only the last counts. It must be called from one goroutine.
func (w *Watcher) SetInterests(interests []Interest, number int) {
	select {
	case <-w.next: // not taken up, and not wanted any more
	default:
	}
	w.next <- wanted{interests, number}
}

// replace is SetInterests in the loop. What has been touched is still told when it
// has come to rest, by the new rules, even where no interest wants it any more:
// whoever has heard Touched waits for it.
func (w *Watcher) replace(next wanted) {
	w.interests = nil
	for _, in := range next.interests {
		c := compileInterest(w.root, in)
		w.interests = append(w.interests, c)
		if g := w.bursts.groups[in.Key]; g != nil {
			w.matchAnew(g, &c)
		}
	}
	for dir := range w.dirs {
		if !w.wantsDir(dir) {
			delete(w.dirs, dir)
			w.kernel.Remove(filepath.FromSlash(dir))
		}
	}
	// Folders that are watched already may have parts below them that were not
	// wanted before, so all are walked anew.
	clear(w.dirs)
	if err := w.watchAll(); err != nil {
		w.tell(Lost{err.Error()})
	}
	w.tell(Watching{next.number})
}

// matchAnew gives the hits of a group the rules of an edited interest. One that no
// rule matches any more keeps its pattern and comes after all rules.
func (w *Watcher) matchAnew(g *group, in *interest) {
	for path, h := range g.hits {
		h.Rule = len(in.rules)
		file := absolute(w.root, path)
		if i, ok := in.match(file); ok {
			h.Rule, h.Pattern, h.Captures = i, in.rules[i].text, in.rules[i].capture(file)
		}
		g.hits[path] = h
	}
}

// Close ends the watching. It must be called once.
func (w *Watcher) Close() {
	close(w.closing)
	w.kernel.Close()
}

// watchAll watches from the base of every pattern, or, where that does not exist
// yet, the nearest folder above it, in which it would appear.
func (w *Watcher) watchAll() error {
	for _, in := range w.interests {
		for _, p := range in.rules {
			base := p.base()
			for !isDir(base) && base != "/" && base != "." {
				base = path.Dir(base)
			}
			if _, err := w.watchTree(base); err != nil {
				return err
			}
		}
	}
	return nil
}

func isDir(p string) bool {
	info, err := os.Stat(filepath.FromSlash(p))
	return err == nil && info.IsDir()
}

// watchTree watches dir and all below it that is wanted, and returns the files
// that it met. Each folder is watched before it is read, so that nothing which
// appears in between is missed.
func (w *Watcher) watchTree(dir string) (files []string, err error) {
	if w.dirs[dir] || !w.wantsDir(dir) {
		return nil, nil
	}
	if err := w.kernel.Add(filepath.FromSlash(dir)); err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			return nil, nil
		}
		return nil, fmt.Errorf("watch %s: %w", dir, err)
	}
	w.dirs[dir] = true
	entries, err := os.ReadDir(filepath.FromSlash(dir))
	if err != nil {
		return nil, nil // it is gone again, or not ours to read
	}
	for _, entry := range entries {
		child := path.Join(dir, entry.Name())
		if !entry.IsDir() {
			files = append(files, child)
			continue
		}
		below, err := w.watchTree(child)
		if err != nil {
			return nil, err
		}
		files = append(files, below...)
	}
	return files, nil
}

func (w *Watcher) wantsDir(dir string) bool {
	if isNoise(dir) {
		return false
	}
	for _, in := range w.interests {
		if in.reaches(dir) {
			return true
		}
	}
	return false
}

func (in *interest) reaches(dir string) bool {
	for i, p := range in.rules {
		if !in.Rules[i].Out && p.reaches(dir) {
			return !in.ignores(dir)
		}
	}
	return false
}

// match returns the index of the rule that a path falls under, and whether the
// interest hears of it.
func (in *interest) match(file string) (int, bool) {
	for i, p := range in.rules {
		if p.match(file) {
			return i, !in.Rules[i].Out && !in.ignores(file)
		}
	}
	return -1, false
}

func (in *interest) ignores(file string) bool {
	for _, p := range in.ignore {
		if p.covers(file) {
			return true
		}
	}
	return false
}

// hits returns who hears of a path.
func (w *Watcher) hits(file, what string) []Hit {
	if isNoise(file) {
		return nil
	}
	var hits []Hit
	for _, in := range w.interests {
		if i, ok := in.match(file); ok {
			p := in.rules[i]
			hits = append(hits, Hit{in.Key, w.relative(file), what, i, p.text, p.capture(file)})
		}
	}
	return hits
}

func (w *Watcher) relative(file string) string {
	if rel, err := filepath.Rel(filepath.FromSlash(w.root), filepath.FromSlash(file)); err == nil {
		return filepath.ToSlash(rel)
	}
	return file
}

func (w *Watcher) lull(key string) time.Duration {
	for _, in := range w.interests {
		if in.Key == key {
			return in.Lull
		}
	}
	return 0
}

// loop is the one goroutine that handles events.
func (w *Watcher) loop() {
	defer close(w.events)
	timer := time.NewTimer(time.Hour)
	for {
		if due, ok := w.bursts.next(); ok {
			timer.Reset(time.Until(due))
		}
		select {
		case <-w.closing:
			return
		case ev, ok := <-w.kernel.Events:
			if !ok {
				return
			}
			w.note(w.handle(ev))
		case err, ok := <-w.kernel.Errors:
			if !ok {
				return
			}
			w.lost(err)
		case next := <-w.next:
			w.replace(next)
		case <-timer.C:
		}
		for _, c := range w.bursts.take(time.Now()) {
			w.tell(c)
		}
	}
}

func (w *Watcher) tell(ev Event) {
	select {
	case w.events <- ev:
	case <-w.closing:
	}
}

func (w *Watcher) note(hits []Hit) {
	for _, t := range w.bursts.add(time.Now(), hits, w.lull) {
		w.tell(t)
	}
}

// handle keeps the watched folders in step with the tree and returns who hears
// of an event.
func (w *Watcher) handle(ev fsnotify.Event) []Hit {
	file := filepath.ToSlash(ev.Name)
	switch {
	case ev.Has(fsnotify.Create):
		if isDir(file) {
			return w.appeared(file)
		}
		return w.hits(file, "created")
	case ev.Has(fsnotify.Write):
		return w.hits(file, "written")
	case ev.Has(fsnotify.Remove), ev.Has(fsnotify.Rename):
		if w.dirs[file] {
			return w.vanished(file, ev.Has(fsnotify.Rename))
		}
		return w.hits(file, "removed")
	case ev.Has(fsnotify.Chmod):
		return w.chmod(file)
	}
	return nil
}

// appeared watches a new folder and tells of the files it came with.
func (w *Watcher) appeared(dir string) []Hit {
	files, err := w.watchTree(dir)
	if err != nil {
		w.tell(Lost{err.Error()})
	}
	var hits []Hit
	for _, f := range files {
		hits = append(hits, w.hits(f, "created")...)
	}
	return hits
}

// vanished forgets a folder. One that was renamed takes its files along without
// an event for each, so those who could have matches below it hear of the folder.
func (w *Watcher) vanished(dir string, renamed bool) []Hit {
	for d := range w.dirs {
		if d == dir || strings.HasPrefix(d, dir+"/") {
			delete(w.dirs, d)
			w.kernel.Remove(filepath.FromSlash(d)) // the system may have done so itself
		}
	}
	if !renamed {
		return nil
	}
	var hits []Hit
	for _, in := range w.interests {
		for i, p := range in.rules {
			if !in.Rules[i].Out && p.reaches(dir) && !in.ignores(dir) {
				hits = append(hits, Hit{Key: in.Key, Path: w.relative(dir), What: "removed", Rule: i, Pattern: p.text})
				break
			}
		}
	}
	return hits
}

// touchWindow is how recent a file's time must be for a change of its attributes
// to count as a touch rather than as a change of mode.
const touchWindow = 2 * time.Second

func (w *Watcher) chmod(file string) []Hit {
	info, err := os.Stat(filepath.FromSlash(file))
	if err != nil || info.IsDir() || time.Since(info.ModTime()).Abs() > touchWindow {
		return nil
	}
	return w.hits(file, "written")
}

// lost makes everything count as changed when the system has dropped events.
func (w *Watcher) lost(err error) {
	w.tell(Lost{err.Error()})
	if err := w.watchAll(); err != nil {
		w.tell(Lost{err.Error()})
	}
	var hits []Hit
	for _, in := range w.interests {
		for i, r := range in.Rules {
			if !r.Out {
				hits = append(hits, Hit{Key: in.Key, Path: ".", What: "written", Rule: i, Pattern: r.Pattern})
				break
			}
		}
	}
	w.note(hits)
}
