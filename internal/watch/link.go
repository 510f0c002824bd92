package watch

import (
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"omnivigil/internal/watch/kernel"
	"omnivigil/internal/watch/stamp"
)

// maxDepth limits the symbolic links to directories on one path, so that directories that link to each other do not
// grow without end.
const maxDepth = 3

// maxHops limits the symbolic links that are followed one after another, as systems do.
const maxHops = 16

// follow finds the target of a symbolic link, and listens to every name on the way to it, if an interest wants the
// target.
func (t *tree) follow(f *folder, name string) stamp.Entry {
	t.unfollow(f, name)
	f.links[name] = []*listener{}
	e := stamp.Stat(f.join(name))
	out := f.ignores(name, false)
	if len(t.matcher.Hears(f.place, name, out)) == 0 && !t.matcher.Wants(f.place.Enter(name), out) {
		return e
	}
	for _, at := range t.steps(f.join(name)) {
		if w := t.listen(at, func(what kernel.Signs) { t.look(f, name, what) }); w != nil {
			f.links[name] = append(f.links[name], w)
		}
	}
	return stamp.Stat(f.join(name))
}

// steps returns the paths on the way to the target of a symbolic link: those where another entry would lead
// elsewhere. Of directories outside the watched ones only the last counts, or the first that is missing.
func (t *tree) steps(link string) []string {
	var steps []string
	at, rest := resolved(path.Dir(link)), []string{path.Base(link)}
	for hops := 0; len(rest) > 0 && hops < maxHops; {
		next := path.Join(at, rest[0])
		rest = rest[1:]
		kind := stamp.Lstat(next).Kind
		if hops > 0 && (len(rest) == 0 || kind == stamp.Absent || kind == stamp.Link || t.isInside(at)) {
			steps = append(steps, next)
		}
		if kind == stamp.Absent {
			break
		}
		if kind != stamp.Link {
			at = next
			continue
		}
		hops++
		to, err := os.Readlink(filepath.FromSlash(next))
		if err != nil {
			break
		}
		if to = filepath.ToSlash(to); path.IsAbs(to) {
			at = "/"
		}
		rest = append(strings.FieldsFunc(to, func(r rune) bool { return r == '/' }), rest...)
	}
	return steps
}

// resolved returns the real path of a directory, which is where a relative link starts.
func resolved(dir string) string {
	resolved, err := filepath.EvalSymlinks(filepath.FromSlash(dir))
	if err != nil {
		return dir
	}
	return filepath.ToSlash(resolved)
}

// isInside reports whether a path is in a watched directory.
func (t *tree) isInside(p string) bool {
	return slices.ContainsFunc(t.anchors, func(a *folder) bool { return isBelow(p, a.path) })
}

func (t *tree) unfollow(f *folder, name string) {
	if listeners, is := f.links[name]; is {
		t.cut(listeners)
		delete(f.links, name)
	}
}

// inode is a file with more than one name. It is watched itself, because the kernel reports a change only to the
// directory through which it was made.
type inode struct {
	watch   kernel.ID
	watched bool
	names   map[fileName]bool
}

type fileName struct {
	in   *folder
	name string
}

// tie records that a file has several names, and this is one of them.
func (t *tree) tie(f *folder, name string, id stamp.Identity) {
	if id == (stamp.Identity{}) {
		return
	}
	n := t.linked[id]
	news := n == nil
	if news {
		n = &inode{names: map[fileName]bool{}}
		t.linked[id] = n
	}
	n.names[fileName{f, name}] = true
	if !n.watched { // also if another file had this identity before, and its watch ended with it
		if watch, ok := t.subscription(f.join(name)); ok && len(t.subscriptions[watch].folders) == 0 {
			n.watch, n.watched, news = watch, true, true
			t.subscriptions[watch].file = n
		}
	}
	if news {
		// Not at once: looking at other names during a look could drop the directory that is being looked at.
		t.tied = append(t.tied, id)
	}
}

// lookAtTied looks at the other names of files that have several, and at their contents: these may have changed
// before they were watched.
func (t *tree) lookAtTied() {
	for len(t.tied) > 0 {
		id := t.tied[0]
		t.tied = t.tied[1:]
		if n := t.linked[id]; n != nil {
			t.findNames(id, n)
		}
	}
}

func (t *tree) findNames(id stamp.Identity, n *inode) {
	t.studyAll()
	t.eachFolder(func(f *folder) {
		for name, m := range f.files {
			if f.links[name] != nil {
				continue
			}
			if !m.Studied {
				m = stamp.Lstat(f.join(name)).Mark
			}
			if m.ID == id {
				n.names[fileName{f, name}] = true
			}
		}
	})
	n.changed(t, kernel.Missed)
}

func (t *tree) untie(f *folder, name string) {
	n := t.linked[f.files[name].ID]
	if n == nil {
		return
	}
	if delete(n.names, fileName{f, name}); len(n.names) > 0 {
		return
	}
	delete(t.linked, f.files[name].ID)
	if n.watched && t.subscriptions[n.watch] != nil {
		t.subscriptions[n.watch].file = nil
		t.release(n.watch)
	}
}

// changed looks at the file under each of its names. If its watch has ended, the file is gone. Another one may have
// its names by now, even one with the same identity, because systems reuse these at once.
func (n *inode) changed(t *tree, what kernel.Signs) {
	if what&kernel.Unwatched != 0 {
		delete(t.subscriptions, n.watch)
		n.watched = false
	}
	for at := range maps.Clone(n.names) {
		t.look(at.in, at.name, what&(kernel.Wrote|kernel.Closed|kernel.Altered|kernel.Missed))
	}
}
