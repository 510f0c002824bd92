package watch

import (
	"errors"
	"io/fs"
	"time"

	"omnivigil/internal/watch/ahead"
	"omnivigil/internal/watch/kernel"
	"omnivigil/internal/watch/listing"
	"omnivigil/internal/watch/repository"
	"omnivigil/internal/watch/stamp"
)

// reading is what the first reading of a directory means for its listeners.
type reading uint8

const (
	baseline reading = iota // nothing: this is the initial state
	novel                   // everything in it is new
	recent                  // recent changes may not have been reported
)

// moment is longer than any event takes to arrive.
const moment = 5 * time.Second

// firstLook returns the first look at a directory, which has yet to be taken.
func (t *tree) firstLook(f *folder) *ahead.Look {
	if t.watchable(f) {
		return ahead.At(f.path, t.kernel)
	}
	return ahead.At(f.path, nil)
}

// grow watches and reads a directory and everything wanted in it. It reports whether the directory exists.
func (t *tree) grow(f *folder, how reading) bool {
	entries, err := t.takeFirst(f)
	f.files, f.subs, f.others, f.links = make(map[string]stamp.Mark, len(entries)), map[string]*folder{},
		map[string]bool{}, map[string][]*listener{}
	if err != nil {
		t.detach(f)
		if f.gone = f.up != nil; !f.gone {
			t.schedule(f) // it may come back
		}
		return false
	}
	t.schedule(f)
	top := false
	for _, e := range entries {
		switch {
		case e.Name == repository.IgnoreFile && e.Kind == stamp.File:
			t.meetFile(f, e, how) // before the files that its rules are about
		case e.Name == ".git":
			top = true
		}
	}
	t.enterRepository(f, top)
	f.scope = f.ownScope()
	var subs []*folder
	var others []listing.Entry
	for _, e := range entries {
		switch e.Kind {
		case stamp.Directory:
			if s := t.meet(f, e.Name, false); s != nil {
				subs = append(subs, s)
			}
		case stamp.File:
			t.meetFile(f, e, how)
		default:
			others = append(others, e)
		}
	}
	t.growAll(subs, how)
	for _, e := range others { // where links lead to is watched by now
		t.look(f, e.Name, kernel.Appeared)
	}
	t.unstudied = append(t.unstudied, f)
	return true
}

// takeFirst takes the first look at a directory.
func (t *tree) takeFirst(f *folder) ([]listing.Entry, error) {
	look := f.first
	f.first = nil
	t.firsts.Take(look)
	f.read, f.id = look.Began, look.ID
	if look.Watches() {
		t.subscribe(f, look.Watch, look.WatchErr)
	}
	unwatched := look.WatchErr != nil && !errors.Is(look.WatchErr, kernel.ErrLimit)
	switch {
	case errors.Is(look.Err, ahead.ErrReplaced), look.Err == nil && unwatched:
		return t.list(f)
	case f.watched && errors.Is(look.Err, fs.ErrNotExist):
		t.lost = true // its watch ends now; if it was moved, it is also that of the directory at the new place
	}
	return look.Entries, look.Err
}

// growAll watches and reads new directories, and forgets those that do not exist any more.
func (t *tree) growAll(subs []*folder, how reading) {
	var due []*ahead.Look
	for _, s := range subs {
		s.first = t.firstLook(s)
		due = append(due, s.first)
	}
	if len(due) > 1 { // a single one is not worth another goroutine
		t.firsts.Begin(due)
	}
	for _, s := range subs {
		if !t.grow(s, how) {
			t.giveUpSpare(s)
			delete(s.up.subs, s.name)
		}
	}
}

// meetFile adds a file that was found when its directory was read.
func (t *tree) meetFile(f *folder, e listing.Entry, how reading) {
	if _, known := f.files[e.Name]; known {
		return
	}
	since := f.read.Add(-moment).UnixNano()
	if how == baseline || how == recent && stamp.Lstat(f.join(e.Name)).Mark.LastChange() < since {
		f.files[e.Name] = stamp.Mark{}
		return
	}
	t.look(f, e.Name, kernel.Appeared)
}

// list reads the entries of a directory. If the path leads to another directory than the watched one, that is watched
// first.
func (t *tree) list(f *folder) ([]listing.Entry, error) {
	limited := t.limited
	for {
		id, entries, err := listing.Read(f.path)
		if err != nil {
			return nil, err
		}
		if id == f.id && (f.watched || !t.watchable(f) || t.limited > limited) {
			return entries, nil
		}
		t.detach(f)
		t.attach(f)
	}
}

// meet adds a directory in f, if it is wanted, without reading it; otherwise it returns nil.
func (t *tree) meet(f *folder, name string, link bool) *folder {
	s := f.sub(name, link)
	if s.depth > maxDepth || !t.takes(s) {
		if !link {
			f.others[name] = true
		}
		return nil
	}
	delete(f.others, name)
	f.subs[name] = s
	return s
}
