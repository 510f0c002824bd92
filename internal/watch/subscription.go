package watch

import (
	"errors"
	"path"

	"omnivigil/internal/watch/kernel"
	"omnivigil/internal/watch/stamp"
)

// subscription is everything that listens to one watch of the kernel.
type subscription struct {
	folders []*folder              // those that are this directory, by whatever path
	names   map[string][]*listener // who listens to a single name in it
	file    *inode                 // if it is not a directory
}

// listener listens to one name in a directory, whether the directory is wanted or not.
type listener struct {
	id   kernel.ID
	name string
	do   func(what kernel.Signs)
}

// attach watches a directory, unless it is polled instead. It records its identity: by the time it is read, the path
// may lead to another one.
func (t *tree) attach(f *folder) {
	f.id = stamp.IdentityAt(f.path)
	if !t.watchable(f) {
		return
	}
	id, err := t.kernel.Add(f.path)
	t.subscribe(f, id, err)
}

// subscribe makes a watch that was added, unless that has failed, that of a directory.
func (t *tree) subscribe(f *folder, id kernel.ID, err error) {
	if p := t.subscriptionOf(id, err); p != nil {
		f.watch, f.watched = id, true
		p.folders = append(p.folders, f)
	}
}

// watchable reports whether the directory is to be watched.
func (t *tree) watchable(f *folder) bool { return t.kernel != nil && t.asked(f) == 0 }

// verify makes sure that a directory's watch is still on that directory: its removal may be among the lost events.
func (t *tree) verify(f *folder) {
	if !f.watched {
		return
	}
	if id, err := t.kernel.Add(f.path); err != nil || id != f.watch {
		t.detach(f)
		t.attach(f)
	}
}

// subscriptionOf returns what listens to a watch that was added; nil: that has failed.
func (t *tree) subscriptionOf(id kernel.ID, err error) *subscription {
	if err != nil {
		if errors.Is(err, kernel.ErrLimit) {
			t.limited++
		}
		return nil
	}
	if t.subscriptions[id] == nil {
		t.subscriptions[id] = &subscription{names: map[string][]*listener{}}
	}
	return t.subscriptions[id]
}

// subscription returns the watch of a path, and whether there is one.
func (t *tree) subscription(path string) (kernel.ID, bool) {
	if t.kernel == nil {
		return 0, false
	}
	id, err := t.kernel.Add(path)
	return id, t.subscriptionOf(id, err) != nil
}

func (t *tree) detach(f *folder) {
	if !f.watched {
		return
	}
	f.watched = false
	if p := t.subscriptions[f.watch]; p != nil {
		p.folders = without(p.folders, f)
		t.release(f.watch)
	}
}

// release ends a watch without listeners.
func (t *tree) release(id kernel.ID) {
	if p := t.subscriptions[id]; p != nil && len(p.folders) == 0 && len(p.names) == 0 && p.file == nil {
		delete(t.subscriptions, id)
		t.kernel.Remove(id)
	}
}

// listen adds a listener to a path. It returns nil if the directory does not exist.
func (t *tree) listen(to string, do func(kernel.Signs)) *listener {
	id, ok := t.subscription(path.Dir(to))
	if !ok {
		return nil
	}
	w := &listener{id, path.Base(to), do}
	names := t.subscriptions[id].names
	names[w.name] = append(names[w.name], w)
	return w
}

func (t *tree) cut(listeners []*listener) {
	for _, w := range listeners {
		p := t.subscriptions[w.id]
		if p == nil {
			continue
		}
		if p.names[w.name] = without(p.names[w.name], w); len(p.names[w.name]) == 0 {
			delete(p.names, w.name)
		}
		t.release(w.id)
	}
}

// hear handles an event of the kernel.
func (t *tree) hear(n kernel.Notice) {
	if n.What&kernel.Overflowed != 0 {
		t.lost = true
		return
	}
	p := t.subscriptions[n.ID]
	switch {
	case p == nil:
	case p.file != nil:
		p.file.changed(t, n.What)
	case n.What&(kernel.SelfMoved|kernel.Unwatched) != 0:
		t.hearEnd(n, p)
	case n.Name != "":
		for _, f := range append([]*folder(nil), p.folders...) {
			t.look(f, n.Name, n.What)
		}
		for _, w := range append([]*listener(nil), p.names[n.Name]...) {
			w.do(n.What)
		}
	}
}

// hearEnd checks whether a directory is still at its path.
func (t *tree) hearEnd(n kernel.Notice, p *subscription) {
	folders := append([]*folder(nil), p.folders...)
	if n.What&kernel.Unwatched != 0 {
		delete(t.subscriptions, n.ID)
		for _, f := range folders {
			f.watched = false
		}
	}
	for _, f := range folders {
		t.lookAgain(f, n.What)
	}
	for _, listeners := range p.names {
		for _, w := range append([]*listener(nil), listeners...) {
			w.do(n.What)
		}
	}
}

func without[T comparable](all []T, one T) []T {
	kept := all[:0:0]
	for _, a := range all {
		if a != one {
			kept = append(kept, a)
		}
	}
	return kept
}
