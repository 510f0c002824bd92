package watch

import (
	"path"
	"slices"
	"strings"
	"time"

	"omnivigil/internal/files"
	"omnivigil/internal/watch/ahead"
	"omnivigil/internal/watch/kernel"
	"omnivigil/internal/watch/pattern"
	"omnivigil/internal/watch/repository"
	"omnivigil/internal/watch/stamp"
)

// tree is the known state of the directories that could concern an interest, and of the files in them. Events of the
// system only say where to look: what happened to a name is decided by comparing what is there with what was known.
// So events that are late, doubled or out of order do no harm, and after a loss it is enough to look everywhere.
//
// A tree belongs to one goroutine.
type tree struct {
	root          string
	matcher       *pattern.Matcher
	kernel        kernel.Source // nil if the system has none left
	anchors       []*folder
	subscriptions map[kernel.ID]*subscription
	linked        map[stamp.Identity]*inode // files with more than one name
	tied          []stamp.Identity          // the new ones of them
	workTrees
	pollGroups map[time.Duration]*pollGroup

	edits     []edit
	silent    bool // what is found is the initial state; no interest is notified
	stale     bool // ignore files changed: the wanted directories must be recomputed
	lost      bool // events were lost
	unstudied []*folder
	firsts    ahead.Looks
	unsure    map[*folder]time.Time // directories with files so new that a look could not be certain, and the time when it can be
	limited   int                   // directories for which the system had no watch left
	spares    int                   // directories that are watched only for spare interests
	remarks   []string              // messages for the user
	clock     func() time.Time      // the clock for released
}

// folder is a directory as one path leads to it. A directory with symbolic links to it has one for each path.
type folder struct {
	path, name string
	up         *folder // nil for an anchor
	place      pattern.Place
	scope      *repository.Scope // the ignore files that apply in it
	out        bool              // version control ignores it and everything in it
	spare      bool              // it is watched only for spare interests
	repo       *workTree         // the work tree of which it is the top, or nil
	id         stamp.Identity
	first      *ahead.Look // until it has been grown
	read       time.Time   // when its entries were first read
	gone       bool        // it was dropped
	link       bool        // it was reached through a symbolic link
	depth      int         // how many symbolic links lead to it
	notification
	files  map[string]stamp.Mark
	subs   map[string]*folder
	others map[string]bool        // directories in it that concern no interest
	links  map[string][]*listener // symbolic links in it, and the listeners on what they lead to
}

// notification is how changes in a directory are learned of.
type notification struct {
	watch   kernel.ID
	watched bool
	shared  bool          // its file system does not report changes made by others
	every   time.Duration // how often it is polled; 0: never
}

// edit is what happened to one file.
type edit struct {
	in      *folder
	name    string
	what    string // created, written, removed; empty if its writer has only closed it
	writing bool   // its writer has not closed it
	at      int64  // when the file, or the directory of a removed file, changed, in nanoseconds since 1970; 0: unknown
}

func newTree(root string) *tree {
	return &tree{
		root:          root,
		matcher:       pattern.NewMatcher(root, nil),
		subscriptions: map[kernel.ID]*subscription{},
		linked:        map[stamp.Identity]*inode{},
		workTrees:     workTrees{repos: map[*folder]*workTree{}},
		pollGroups:    map[time.Duration]*pollGroup{},
		unsure:        map[*folder]time.Time{},
		clock:         time.Now,
	}
}

func (t *tree) remark(text string) { t.remarks = append(t.remarks, text) }

func (t *tree) edit(f *folder, name, what string, writing bool) {
	if name == repository.IgnoreFile {
		t.stale = true
	}
	if t.silent {
		return
	}
	at := f.files[name].Changed
	if what == "removed" {
		at = stamp.Lstat(f.path).Mark.Changed
	}
	t.edits = append(t.edits, edit{f, name, what, writing, at})
}

// want extends and cuts the tree for these interests. What it finds is the initial state, not an edit.
func (t *tree) want(interests []pattern.Interest) {
	t.matcher = pattern.NewMatcher(t.root, interests)
	t.silent = true
	defer func() { t.silent = false }()
	dirs := t.anchorsFor()
	t.anchors = slices.DeleteFunc(t.anchors, func(a *folder) bool {
		if slices.Contains(dirs, a.path) {
			return false
		}
		t.drop(a)
		return true
	})
	t.reckonAll(baseline)
	for _, dir := range dirs {
		if !slices.ContainsFunc(t.anchors, func(a *folder) bool { return a.path == dir }) {
			f := &folder{path: dir, name: path.Base(dir), place: t.matcher.At(dir)}
			f.first = t.firstLook(f)
			t.anchors = append(t.anchors, f)
			t.grow(f, baseline)
		}
	}
	t.stale = false
}

// reckonAll recomputes which directories are wanted, after the interests or the ignore files have changed.
func (t *tree) reckonAll(how reading) {
	t.stale = false
	for _, a := range t.anchors {
		a.place = t.matcher.At(a.path)
		t.recompute(a, how)
	}
}

func (t *tree) recompute(f *folder, how reading) {
	_, isFile := f.files[".git"]
	t.enterRepository(f, isFile || f.others[".git"] || f.subs[".git"] != nil)
	f.scope = f.ownScope()
	t.resettle(f)
	for name, s := range f.subs {
		s.place, s.scope = f.place.Enter(name), f.scope
		s.out = f.ignores(name, !s.link)
		if t.takes(s) {
			t.recompute(s, how)
			continue
		}
		silent := t.silent
		t.silent = true
		t.drop(s)
		t.silent = silent
		if !s.link {
			f.others[name] = true
		}
	}
	var subs []*folder
	for name := range f.others {
		if s := t.meet(f, name, false); s != nil {
			subs = append(subs, s)
		}
	}
	t.growAll(subs, how)
	for name := range f.links {
		t.look(f, name, 0)
	}
}

// anchorsFor returns the directories below which everything wanted is, none of them in another: the project's, or the
// top of its repository, and the same for patterns that lead out of it.
func (t *tree) anchorsFor() []string {
	dirs := []string{topOf(t.root)}
	for _, in := range t.matcher.Interests {
		for i, p := range in.RulePatterns {
			if base := files.Existing(p.Base()); !in.Rules[i].Out && !isBelow(base, dirs[0]) {
				dirs = append(dirs, topOf(base))
			}
		}
	}
	var anchors []string
	for i, dir := range dirs {
		nested := false
		for j, other := range dirs {
			nested = nested || j != i && isBelow(dir, other) && (dir != other || j < i)
		}
		if !nested {
			anchors = append(anchors, dir)
		}
	}
	return anchors
}

func topOf(dir string) string {
	if top := repository.Top(dir); top != "" {
		return top
	}
	return dir
}

// isBelow reports whether p is dir or in it.
func isBelow(p, dir string) bool {
	return p == dir || strings.HasPrefix(p, strings.TrimSuffix(dir, "/")+"/")
}

// sub creates the directory of that name in f, without reading it.
func (f *folder) sub(name string, link bool) *folder {
	s := &folder{
		path:         f.join(name),
		name:         name,
		up:           f,
		place:        f.place.Enter(name),
		scope:        f.scope,
		notification: notification{shared: f.shared},
		depth:        f.depth,
		link:         link,
	}
	if link {
		s.depth++
	}
	s.out = f.ignores(name, !link)
	return s
}

func (f *folder) join(name string) string {
	if f.path == "/" {
		return "/" + name
	}
	return f.path + "/" + name
}

// ignores reports whether version control ignores a name in f. Its own directory counts as ignored.
func (f *folder) ignores(name string, dir bool) bool {
	return f.out || name == ".git" || f.scope.Ignores(f.join(name), dir)
}

// ownScope returns the rules that apply in the directory.
func (f *folder) ownScope() *repository.Scope {
	var above *repository.Scope
	switch {
	case f.repo != nil:
		above = f.repo.Below
	case f.up != nil:
		above = f.up.scope
	}
	if _, has := f.files[repository.IgnoreFile]; !has {
		return above
	}
	return above.With(f.path, f.join(repository.IgnoreFile))
}

// maxSpares limits the directories that are watched only for spare interests.
const maxSpares = 500

// takes reports whether a directory is to be watched, and counts those that only spare interests want.
func (t *tree) takes(f *folder) bool {
	if t.matcher.Wants(f.place, f.out) {
		t.giveUpSpare(f)
		return true
	}
	if !t.matcher.WantsAs(f.place, f.out, true) || !f.spare && t.spares >= maxSpares {
		return false
	}
	if !f.spare {
		f.spare = true
		t.spares++
	}
	return true
}

func (t *tree) giveUpSpare(f *folder) {
	if f.spare {
		f.spare = false
		t.spares--
	}
}

// look compares a name in a directory with what was known, and reports the difference.
func (t *tree) look(f *folder, name string, what kernel.Signs) {
	if f.gone { // an earlier look found that out
		return
	}
	e, link := stamp.Lstat(f.join(name)), false
	if e.Kind == stamp.Link {
		e, link = t.follow(f, name), true
	} else {
		t.unfollow(f, name)
	}
	if name == ".git" && (e.Kind == stamp.Absent) == (f.repo != nil) {
		t.stale = true
	}
	if _, known := f.files[name]; known && e.Kind != stamp.File {
		t.untie(f, name)
		delete(f.files, name)
		t.edit(f, name, "removed", false)
	}
	if s := f.subs[name]; s != nil && e.Kind != stamp.Directory {
		t.drop(s)
	}
	switch e.Kind {
	case stamp.File:
		delete(f.others, name)
		t.lookFile(f, name, e.Mark, what, link)
	case stamp.Directory:
		if link {
			delete(f.others, name)
		}
		t.lookFolder(f, name, e.Mark.ID, link)
	default:
		delete(f.others, name)
	}
}

func (t *tree) lookFile(f *folder, name string, now stamp.Mark, what kernel.Signs, link bool) {
	old, known := f.files[name]
	if now.Soon && what&kernel.Polled != 0 {
		t.again(f) // a later look will be certain
		return
	}
	if known && old.ID != now.ID {
		t.untie(f, name)
	}
	f.files[name] = now
	if now.Links > 1 && !link {
		t.tie(f, name, now.ID)
	}
	writing := what&kernel.Closed == 0 && now.Links == 1 && !link
	switch {
	case !known:
		t.edit(f, name, "created", writing)
	case what&kernel.Wrote != 0:
		t.edit(f, name, "written", writing)
	case old.Differs(now, f.read, what == kernel.Altered), what&kernel.Missed != 0 && old.Soon,
		what&kernel.Replaced != 0 && !old.Studied:
		t.edit(f, name, "written", false)
	case what&kernel.Closed != 0:
		t.edit(f, name, "", false)
	}
}

func (t *tree) lookFolder(f *folder, name string, id stamp.Identity, link bool) {
	s := f.subs[name]
	if s != nil && s.link != link { // ignore rules distinguish them
		t.drop(s)
		s = nil
	}
	switch {
	case s == nil && f.others[name]: // the interests do not depend on what it is
	case s == nil && link && f.leadsBack(id):
	case s == nil:
		if s = t.meet(f, name, link); s != nil {
			t.growAll([]*folder{s}, novel)
		}
	case s.id != id || !s.watched && s.every == 0:
		t.renew(s)
	}
}

// leadsBack reports whether a directory is also on the path to f.
func (f *folder) leadsBack(id stamp.Identity) bool {
	for ; f != nil; f = f.up {
		if f.id == id {
			return true
		}
	}
	return false
}

// renew compares a directory with the one that was known at its path.
func (t *tree) renew(f *folder) {
	t.detach(f)
	t.attach(f)
	t.compare(f, kernel.Replaced, true)
}

// compare looks at everything in a directory, and with deep in those below it.
func (t *tree) compare(f *folder, what kernel.Signs, deep bool) {
	if f.gone {
		return
	}
	before := f.id
	if what&kernel.Missed != 0 {
		t.verify(f)
	}
	entries, err := t.list(f)
	if err != nil {
		t.lookAgain(f, what)
		return
	}
	if before != f.id {
		what |= kernel.Replaced
	}
	there := make(map[string]bool, len(entries))
	for _, e := range entries {
		name := e.Name
		there[name] = true
		s := f.subs[name]
		t.look(f, name, what)
		if deep && s != nil && s == f.subs[name] {
			t.compare(s, what, true)
		}
	}
	for name := range f.files {
		if !there[name] {
			t.look(f, name, what)
		}
	}
	for name := range f.subs {
		if !there[name] {
			t.look(f, name, what)
		}
	}
}

// lookAgain looks whether a directory is still where it was.
func (t *tree) lookAgain(f *folder, what kernel.Signs) {
	if f.up != nil {
		t.look(f.up, f.name, what)
		return
	}
	switch now := stamp.Stat(f.path); {
	case now.Kind != stamp.Directory:
		t.detach(f)
		t.empty(f)
		t.schedule(f)
		t.remark(f.path + " is gone: it is looked for every second")
	case now.Mark.ID != f.id || !f.watched:
		t.renew(f)
		t.schedule(f)
	}
}

// empty reports that everything in a directory is gone.
func (t *tree) empty(f *folder) {
	for name := range f.files {
		t.untie(f, name)
		delete(f.files, name)
		t.edit(f, name, "removed", false)
	}
	for _, s := range f.subs {
		t.drop(s)
	}
	for name := range f.links {
		t.unfollow(f, name)
	}
	clear(f.others)
}

// drop forgets a directory and reports that what was in it is gone.
func (t *tree) drop(f *folder) {
	f.gone = true
	t.giveUpSpare(f)
	t.empty(f)
	t.detach(f)
	t.unschedule(f)
	t.leaveRepository(f)
	if f.up != nil {
		delete(f.up.subs, f.name)
	}
}
