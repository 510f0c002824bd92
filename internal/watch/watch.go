// Package watch turns file events in a tree of directories into changes that have settled.
//
// It watches only directories that the patterns of some interest can reach and that neither the interest's ignore
// patterns nor git's ignore files exclude. A new directory is watched, and its files are reported, as soon as it
// appears. A directory that the kernel cannot watch is looked at every second. The package knows nothing of units and
// processes: an interest is a key, patterns and a debounce. Start reading at Watcher and burst.go.
package watch

import (
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"omnivigil/internal/files"
	"omnivigil/internal/text/format"
	"omnivigil/internal/watch/kernel"
	"omnivigil/internal/watch/pattern"
	"omnivigil/internal/watch/repository"
	"omnivigil/internal/watch/stamp"
)

// Watcher watches a tree of directories for some interests. Its methods may be called from any goroutine.
type Watcher struct {
	events  chan Event
	next    chan wanted
	asked   chan func() // to be called in the loop
	behind  chan request
	closing chan struct{}

	clock func() time.Time // for the debounces

	// The rest belongs to the loop.
	root     string // with forward slashes
	tree     *tree
	bursts   bursts
	contents *contents
	opened   time.Time
	limited  int // how many directories without a watch the user knows of
	lockWait repository.LockWait
	untold   []Event // see handOut
	// unread is the time since when changes wait for unread events; zero: none does.
	unread time.Time
	// behindSince are the requests to answer, with their times.
	behindSince []request
}

// Open starts watching the directory root, without any interest: see SetInterests. Its bursts have numbers above
// after. It returns at once. If the system refuses to report files, they are polled, and a Notice tells so.
func Open(root string, after int) (*Watcher, error) {
	root = filepath.ToSlash(root)
	k, err := kernel.Open()
	if err != nil && !errors.Is(err, kernel.ErrLimit) {
		return nil, err
	}
	return newWatcher(root, after, k, time.Now), nil
}

func newWatcher(root string, after int, k kernel.Source, clock func() time.Time) *Watcher {
	w := &Watcher{
		clock: clock,
		events: make(
			chan Event,
			64,
		),
		next:     make(chan wanted, 1),
		asked:    make(chan func()),
		behind:   make(chan request, 64),
		closing:  make(chan struct{}),
		root:     root,
		tree:     newTree(root),
		bursts:   newBursts(),
		contents: newContents(),
		opened:   time.Now(),
	}
	w.tree.kernel, w.tree.clock, w.bursts.lastID = k, clock, after
	go w.loop()
	return w
}

// Events returns the channel on which changes are reported. It is closed after Close, and when the system no longer
// reports files; Err returns the reason.
func (w *Watcher) Events() <-chan Event { return w.events }

// Err returns why Events was closed. It must not be called before.
func (w *Watcher) Err() error {
	if k := w.tree.kernel; k != nil {
		return k.Failure()
	}
	return nil
}

// wanted are interests that the loop has not yet adopted.
type wanted struct {
	interests []pattern.Interest
	number    int
}

// SetInterests replaces the interests. It returns at once; a Watching event with the number follows when every later
// write to a file that affects one of them will be reported. Of several calls that the watcher has not yet handled,
// only the last counts. It must be called from one goroutine.
func (w *Watcher) SetInterests(interests []pattern.Interest, number int) {
	select {
	case <-w.next: // not adopted, and superseded
	default:
	}
	w.next <- wanted{interests, number}
}

// File is an existing file that affects an interest.
type File struct {
	Path string // absolute
	Rule int    // the index of the first rule that matches it
}

// Files returns the existing files that affect the interest with a key, ordered by path. It blocks until the watcher
// answers; after Close there are none.
func (w *Watcher) Files(key string) []File {
	answer := make(chan []File, 1)
	select {
	case w.asked <- func() { answer <- w.files(key) }:
		return <-answer
	case <-w.closing:
		return nil
	}
}

// files is Files in the loop.
func (w *Watcher) files(key string) []File {
	at, known := w.tree.matcher.ByKey[key]
	if !known {
		return nil
	}
	var files []File
	w.tree.eachFolder(func(f *folder) {
		for name := range f.files {
			if pattern.IsNoise(name) {
				continue
			}
			for _, a := range w.tree.matcher.Hears(f.place, name, f.ignores(name, false)) {
				if a.Interest == at {
					files = append(files, File{filepath.FromSlash(f.join(name)), a.Rule})
					break
				}
			}
		}
	})
	slices.SortFunc(files, func(a, b File) int { return strings.Compare(a.Path, b.Path) })
	return slices.Compact(files)
}

// request is a call of CatchUp, with its time or the time of its answer.
type request struct {
	number int
	at     time.Time
}

// CatchUp makes the watcher read everything that was written before the call, even if the system has not reported it
// yet. It returns at once; a CaughtUp with the number follows after everything that there was to report.
func (w *Watcher) CatchUp(number int) {
	select {
	case w.behind <- request{number, time.Now()}:
	case <-w.closing:
	}
}

// CatchUp reads what was written before a request.
func (w *Watcher) catchUp(r request, batches <-chan []kernel.Notice) {
	const look = 100 * time.Microsecond
	if k := w.tree.kernel; k != nil {
		for done := k.CatchUp(); !done(); time.Sleep(look) {
			w.drain(batches)
		}
	}
	w.tree.lookEverywhere()
	w.tree.lookAround(time.Now())
	at := time.Now()
	if len(w.tree.unsure) > 0 { // some files are too new to be compared
		at = at.Add(stamp.SoonAfter)
	}
	w.behindSince = append(w.behindSince, request{r.number, at})
}

// answerBehind answers the requests that are due: everything before them has been reported.
func (w *Watcher) answerBehind(now time.Time) {
	w.behindSince = slices.DeleteFunc(w.behindSince, func(r request) bool {
		if r.at.After(now) {
			return false
		}
		w.tell(CaughtUp{r.number})
		return true
	})
}

// Close ends the watching. It must be called once.
func (w *Watcher) Close() { close(w.closing) }

// loop is the one goroutine that handles events.
func (w *Watcher) loop() {
	defer close(w.events)
	var batches <-chan []kernel.Notice
	if w.tree.kernel != nil {
		batches = w.tree.kernel.Batches()
		defer w.tree.kernel.Close()
	}
	timer := time.NewTimer(time.Hour)
	for {
		timer.Reset(w.sleep())
		select {
		case <-w.closing:
			return
		case batch, ok := <-batches:
			if !ok {
				return
			}
			w.hear(batch)
		case next := <-w.next:
			w.replace(next)
		case answer := <-w.asked:
			answer()
		case r := <-w.behind:
			w.catchUp(r, batches)
		case <-timer.C:
			w.idle()
		}
		w.drain(batches)
		now := time.Now()
		w.tree.lookAround(now)
		w.mend()
		w.report()
		w.settle(w.clock())
		w.answerBehind(now)
		w.handOut()
	}
}

// drain reads what the system has reported already, so that nothing counts as settled that is not.
func (w *Watcher) drain(batches <-chan []kernel.Notice) {
	for {
		select {
		case batch, ok := <-batches:
			if !ok {
				return
			}
			w.hear(batch)
		default:
			return
		}
	}
}

func (w *Watcher) hear(batch []kernel.Notice) {
	for _, n := range together(batch) {
		w.tree.hear(n)
	}
}

// together makes one notice of all that are about the same name: a look sees the name as it is now, so one look is
// enough.
func together(batch []kernel.Notice) []kernel.Notice {
	if len(batch) < 2 {
		return batch
	}
	type about struct {
		id   kernel.ID
		name string
	}
	at := make(map[about]int, len(batch))
	var few []kernel.Notice
	for _, n := range batch {
		i, known := at[about{n.ID, n.Name}]
		if !known {
			at[about{n.ID, n.Name}] = len(few)
			few = append(few, n)
			continue
		}
		if n.What&kernel.Wrote != 0 {
			few[i].What &^= kernel.Closed // by another writer
		}
		few[i].What |= n.What
	}
	return few
}

// mend repairs what notices have shown to be outdated in the tree.
func (w *Watcher) mend() {
	t := w.tree
	if t.lost {
		t.lost = false
		before := len(t.edits)
		for f := range maps.Clone(t.repos) {
			t.leaveRepository(f) // and enter it again, with live watches
		}
		t.stale = true
		for _, a := range slices.Clone(t.anchors) {
			t.lookAgain(a, kernel.Missed)
			t.compare(a, kernel.Missed, true)
		}
		t.remark(fmt.Sprintf("files changed faster than the system can tell: all were compared with what was known, %s",
			format.Count(len(t.edits)-before, "change")))
	}
	t.lookAtTied()
	for range 3 { // directories that ignore files include can bring other ignore files
		if t.stale {
			t.reckonAll(recent)
		}
	}
	for _, text := range t.remarks {
		w.tell(Notice{text})
	}
	t.remarks = nil
	if n := t.unwatched(); n > w.limited {
		w.tell(Notice{kernel.LimitText(n)})
		w.limited = n
	}
}

// unwatched returns how many directories the system has no watch for.
func (t *tree) unwatched() int {
	if t.limited == 0 && t.kernel != nil {
		return 0
	}
	n := 0
	for _, r := range t.pollGroups {
		for f := range r.folders {
			if !f.watched && t.asked(f) == 0 && f.files != nil {
				n++
			}
		}
	}
	return n
}

// report reports at once what was touched.
func (w *Watcher) report() {
	var seen []sighting
	for _, e := range w.tree.edits {
		file := e.in.join(e.name)
		if e.what == "" {
			w.bursts.closed(w.relative(file))
			continue
		}
		if s := w.sight(e, file); len(s.by) > 0 {
			seen = append(seen, s)
		}
	}
	w.tree.edits = nil
	for _, t := range w.bursts.add(w.clock(), seen, w.debounce) {
		w.tell(t)
	}
}

// sight returns an edit with the interests that it affects.
func (w *Watcher) sight(e edit, file string) sighting {
	s := sighting{what: e.what, writing: e.writing, at: e.at}
	if pattern.IsNoise(file) {
		return s
	}
	accepts := w.tree.matcher.Hears(e.in.place, e.name, e.in.ignores(e.name, false))
	if len(accepts) > 0 {
		s.path, s.by = w.relative(file), make([]heard, len(accepts))
	}
	for i, a := range accepts {
		in := &w.tree.matcher.Interests[a.Interest]
		p := &in.RulePatterns[a.Rule]
		s.by[i] = heard{in.Key, a.Rule, p.Text, p.Capture(file)}
	}
	return s
}

func (w *Watcher) relative(file string) string {
	if below, ok := strings.CutPrefix(file, w.root+"/"); ok {
		return below
	}
	if rel, err := filepath.Rel(filepath.FromSlash(w.root), filepath.FromSlash(file)); err == nil {
		return filepath.ToSlash(rel)
	}
	return file
}

func (w *Watcher) interest(key string) *pattern.Compiled {
	m := w.tree.matcher
	if i, known := m.ByKey[key]; known {
		return &m.Interests[i]
	}
	return nil
}

func (w *Watcher) debounce(key string) time.Duration {
	if in := w.interest(key); in != nil {
		return in.Debounce
	}
	return 0
}

// replace is SetInterests in the loop. What was touched is still reported when it has settled, by the new rules, even
// if no interest wants it now: a listener that got Touched waits for it.
func (w *Watcher) replace(next wanted) {
	w.tree.want(next.interests)
	for i := range w.tree.matcher.Interests {
		in := &w.tree.matcher.Interests[i]
		if g := w.bursts.groups[in.Key]; g != nil {
			w.matchAnew(g, in)
		}
	}
	w.contents.want(w.tree)
	w.tell(Watching{next.number})
}

// matchAnew gives the hits of a group the rules of an edited interest. A hit that no rule matches now keeps its
// pattern and comes after all rules.
func (w *Watcher) matchAnew(g *group, in *pattern.Compiled) {
	old := g.classes
	g.classes = nil
	clear(g.numbers)
	for i := range g.hits {
		m := &g.hits[i]
		h := old[m.class]
		h.Rule, h.Captures = len(in.RulePatterns), nil
		file := files.Absolute(w.root, w.bursts.paths[m.path])
		for at, p := range in.RulePatterns {
			if p.Match(file) {
				h.Rule, h.Pattern, h.Captures = at, p.Text, p.Capture(file)
				break
			}
		}
		m.class = g.classOf(&heard{h.Key, h.Rule, h.Pattern, h.Captures})
	}
}

// settle reports what has settled, unless version control is at work.
func (w *Watcher) settle(now time.Time) {
	if due, has := w.bursts.next(); !has || due.After(now) {
		return
	}
	lock, held := w.tree.held(now)
	text, wait := w.lockWait.Decide(now, lock, held)
	if text != "" {
		w.tell(Notice{text})
	}
	if wait {
		w.bursts.putOff(now)
		return
	}
	if w.isBehind() {
		return
	}
	for _, c := range w.bursts.take(now, w.news) {
		if len(c.Hits) > 0 {
			w.tell(c.Change)
		}
		if len(c.quiet.Keys) > 0 {
			w.tell(c.quiet)
		}
	}
}

// isBehind reports whether there are unread events in a tree with version control: a busy machine can report the
// first file of a command when its lock is gone again, and the lock and the rest later. It is called after the look
// at the lock. It does not wait for events that never end.
func (w *Watcher) isBehind() bool {
	const most = 200 * time.Millisecond
	k := w.tree.kernel
	if k == nil || len(w.tree.repos) == 0 || k.Quiet() && len(k.Batches()) == 0 {
		w.unread = time.Time{}
		return false
	}
	if w.unread.IsZero() {
		w.unread = time.Now()
	}
	return time.Since(w.unread) < most
}

// news returns the function that reports whether a file is news for an interest that skips unchanged files; nil: all
// are.
func (w *Watcher) news(key string) func(path string) bool {
	in := w.interest(key)
	if in == nil || !in.SkipUnchanged {
		return nil
	}
	return func(path string) bool { return w.contents.isOther(key, files.Absolute(w.root, path)) }
}

func (w *Watcher) tell(ev Event) { w.untold = append(w.untold, ev) }

// handOut delivers what is to be reported all at once: a listener that is woken by the first event finds the others,
// too.
func (w *Watcher) handOut() {
	for _, ev := range w.untold {
		select {
		case w.events <- ev:
		case <-w.closing:
		}
	}
	w.untold = w.untold[:0]
}

// How often the lock of version control, and whether there are unread events, is checked.
const (
	holdLook   = 20 * time.Millisecond
	unreadLook = 200 * time.Microsecond
)

// sleep returns for how long nothing is due.
func (w *Watcher) sleep() time.Duration {
	if len(w.tree.unstudied) > 0 || len(w.contents.todo) > 0 {
		return 0
	}
	wake := time.Now().Add(time.Hour)
	if due, has := w.bursts.next(); has {
		wake = time.Now().Add(due.Sub(w.clock()))
		if w.lockWait.Waits() {
			wake = time.Now().Add(holdLook)
		}
		if !w.unread.IsZero() {
			wake = time.Now().Add(unreadLook)
		}
	}
	if at, has := w.tree.nextLook(); has && at.Before(wake) {
		wake = at
	}
	for _, r := range w.behindSince {
		if r.at.Before(wake) {
			wake = r.at
		}
	}
	return time.Until(wake)
}

// idle does a piece of the work that can wait until there is no other.
func (w *Watcher) idle() {
	if !w.tree.study() {
		w.contents.read(w.tree, w.opened)
	}
}
