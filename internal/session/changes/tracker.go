// Package changes keeps what ripples have changed in text files: their contents before and after, in the store of
// contents. It hears of ripples as faces do, off the loop, so nothing waits for it. Start reading at Tracker.
package changes

import (
	"bytes"
	"context"
	"encoding/json"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/files"
	"omnivigil/internal/output/redact"
	"omnivigil/internal/plan"
	"omnivigil/internal/store/contents"
	"omnivigil/internal/store/history"
)

// Source is the session as a tracker sees it. Its methods may be called from any goroutine.
type Source interface {
	Subscribe(ctx context.Context, since int64, hear func(api.Fact) error) error
	Snapshot(ctx context.Context) (*api.Snapshot, error)
	Changed() (<-chan struct{}, func()) // has a value whenever there is a new snapshot
	Plan() *plan.Plan
	Hidden() *redact.Mask                 // masks secrets
	Clean(text string) string             // makes text safe to show
	Affecting(unit string) []string       // the files that affect a unit, as absolute paths
	Sum(file string) (contents.Sum, bool) // of a file that may have been read before; false: it cannot be read
	Stopped() <-chan struct{}             // closed when the session ends
	KeepChange(c history.Change)          // writes it into the history
}

// state is what is known of a file at a time.
type state struct {
	*contents.Content        // nil: its contents are not kept
	Absent            bool   `json:"absent,omitempty"`
	Note              string `json:"note,omitempty"` // why its contents are not kept
}

// same reports whether a file is known to be as it was.
func (s state) same(as state) bool {
	if s.Content == nil || as.Content == nil {
		return s.Absent && as.Absent
	}
	return *s.Content == *as.Content
}

// change is what a ripple has changed in a file.
type change struct {
	ripple        int
	path          string
	at            time.Time
	before, after state
	reverts       int
}

// Tracker keeps the changes of a session. Its methods may be called from any goroutine.
type Tracker struct {
	source Source
	store  *contents.Store
	root   string

	mu    sync.Mutex
	known map[string]state // by path relative to the project's directory
	all   []change         // oldest first
	// reading and read are the plans for which the files that affect units are being read, and were.
	reading, read *plan.Plan
	lastOpened    time.Time // when the last ripple has opened
}

// maxChanges is how many changes are remembered for units; those of ripples are in the history.
const maxChanges = 4000

// New returns a tracker.
func New(source Source, store *contents.Store, root string) *Tracker {
	return &Tracker{source: source, store: store, root: root, known: map[string]state{}}
}

// Follow keeps changes until the session ends. It blocks.
func (t *Tracker) Follow() {
	t.readPlan()
	t.source.Subscribe(context.Background(), 0, func(f api.Fact) error {
		if f.Kind == factRippleOpened {
			t.opened(f)
		}
		return nil
	})
}

// factRippleOpened is the kind of the fact; the engine names it.
const factRippleOpened = "ripple-opened"

// readAll reads the files that affect units, so that their contents before a change are known. What the user waits for
// comes first: it works a quarter of the time, a twentieth while the project is updating, and not at all right after
// a ripple has opened.
func (t *Tracker) readAll(p *plan.Plan) {
	const look = 200 * time.Millisecond
	var looked time.Time
	rest := time.Duration(0) // for each unit of work
	for _, u := range p.Units {
		for _, file := range t.source.Affecting(u.Name) {
			began := time.Now()
			if began.Sub(looked) > look {
				s, err := t.source.Snapshot(context.Background())
				looked, rest = began, 3
				if err == nil && s.Verdict.Word == api.VerdictUpdating {
					rest = 19
				}
			}
			t.readOnce(file)
			if !t.pause(rest * time.Since(began)) {
				return
			}
		}
	}
	t.mu.Lock()
	t.read = p
	t.mu.Unlock()
	t.store.Tidy() // what fails is tried again with the next content
}

// afterRipple is how long nothing is read in the background after a ripple has opened.
const afterRipple = time.Second

// pause waits at least that long, and until no ripple has opened for a while. False: the session ends.
func (t *Tracker) pause(wait time.Duration) bool {
	for {
		select {
		case <-t.source.Stopped():
			return false
		case <-time.After(wait):
		}
		t.mu.Lock()
		wait = afterRipple - time.Since(t.lastOpened)
		t.mu.Unlock()
		if wait <= 0 {
			return true
		}
	}
}

// readPlan reads the files that affect the units of the plan in use, in the background, unless that was begun.
func (t *Tracker) readPlan() {
	p := t.source.Plan()
	t.mu.Lock()
	defer t.mu.Unlock()
	if p != t.reading && p.KeepChanges {
		t.reading = p
		go t.readAll(p)
	}
}

// readOnce reads a file that nothing is known of.
func (t *Tracker) readOnce(file string) {
	rel := t.relative(file)
	t.mu.Lock()
	_, is := t.known[rel]
	t.mu.Unlock()
	if is {
		return
	}
	now := t.look(rel)
	t.mu.Lock()
	defer t.mu.Unlock()
	if _, is := t.known[rel]; !is { // it may have been changed meanwhile
		t.known[rel] = now
	}
}

// relative is a path relative to the project's directory, with forward slashes.
func (t *Tracker) relative(file string) string {
	if rel, err := filepath.Rel(t.root, file); err == nil {
		return filepath.ToSlash(rel)
	}
	return filepath.ToSlash(file)
}

// opened keeps what a ripple has changed.
func (t *Tracker) opened(f api.Fact) {
	p := t.source.Plan()
	t.mu.Lock()
	t.lastOpened = time.Now()
	t.mu.Unlock()
	if t.readPlan(); !p.KeepChanges {
		return
	}
	r := t.ripple(f.Ripple)
	if r == nil {
		return
	}
	var news []change
	for _, name := range r.Paths {
		now := t.look(name)
		t.mu.Lock()
		before, is := t.known[name]
		t.known[name] = now
		switch {
		case is:
		case t.read == p: // all that existed were read
			before = state{Absent: true}
		default:
			before = state{Note: "its earlier contents are not known"}
		}
		if before.same(now) {
			t.mu.Unlock()
			continue
		}
		c := change{ripple: r.ID, path: name, at: r.Since, before: before, after: now, reverts: t.reverted(name, now)}
		t.all = append(t.all, c)
		news = append(news, c)
		t.mu.Unlock()
	}
	t.mu.Lock()
	if len(t.all) > 2*maxChanges {
		t.all = append([]change(nil), t.all[maxChanges:]...)
	}
	t.mu.Unlock()
	for _, c := range news {
		before, err := json.Marshal(c.before)
		after, afterErr := json.Marshal(c.after)
		if err == nil && afterErr == nil {
			t.source.KeepChange(history.Change{
				Ripple: c.ripple, Path: c.path, At: c.at, Before: before, After: after, Reverts: c.reverts,
			})
		}
	}
}

// ripple returns a ripple that has opened: it is told before it is shown. Nil: the session ends.
func (t *Tracker) ripple(number int) *api.Ripple {
	changed, release := t.source.Changed()
	defer release()
	for {
		if snap, err := t.source.Snapshot(context.Background()); err == nil {
			if r := snap.Ripple(number); r != nil {
				return r
			}
		}
		select {
		case <-changed:
		case <-t.source.Stopped():
			return nil
		}
	}
}

// reverted is the newest ripple whose change of a file is taken back if the file is as it is now; 0: none. The caller
// has locked mu.
func (t *Tracker) reverted(p string, now state) int {
	for _, c := range slices.Backward(t.all) {
		if c.path == p && c.before.Note == "" && c.before.same(now) {
			return c.ripple
		}
	}
	return 0
}

// maxFile is the maximum size of a file whose contents are kept, in bytes.
const maxFile = 1 << 20

// look returns the state of a file, and stores its contents with secret values masked.
func (t *Tracker) look(rel string) state {
	file := rel
	if !filepath.IsAbs(rel) {
		file = filepath.Join(t.root, filepath.FromSlash(rel))
	}
	info, err := os.Lstat(file)
	switch {
	case os.IsNotExist(err):
		return state{Absent: true}
	case err != nil:
		return state{Note: "it cannot be read"}
	case !info.Mode().IsRegular():
		return state{Note: "it is not a regular file"}
	case info.Size() > maxFile:
		return state{Note: "it has more than 1 MB"}
	case MayBeSecret(t.source.Plan(), file):
		return state{Note: "it may have secrets, so its contents are not kept"}
	}
	if sum, is := t.source.Sum(file); is { // it may have been stored in an earlier session
		if c := (contents.Content{Sum: sum, Size: info.Size()}); t.store.Has(c) {
			return state{Content: &c}
		}
	}
	data, err := files.Read(file, maxFile)
	if err != nil {
		return state{Note: "it cannot be read"}
	}
	if isBinary(data) {
		return state{Note: "it is not text"}
	}
	if hidden := t.source.Hidden(); hidden.MayChange(data) {
		data = []byte(hidden.String(string(data)))
	}
	c, err := t.store.Add(data)
	if err != nil {
		return state{Note: "its contents could not be stored: " + err.Error()}
	}
	return state{Content: &c}
}

// isBinary reports whether data is not text, by its beginning, as git does.
func isBinary(data []byte) bool { return bytes.IndexByte(data[:min(len(data), 8000)], 0) >= 0 }

// MayBeSecret reports whether a file may have secrets: an env file, a file whose name, with or without its ending,
// matches the project's secret patterns, or a private key.
func MayBeSecret(p *plan.Plan, file string) bool {
	is := func(name string) bool { return filepath.Join(p.Root, name) == file || name == file }
	if slices.ContainsFunc(p.EnvFiles, is) ||
		slices.ContainsFunc(p.Units, func(u *plan.Unit) bool { return slices.ContainsFunc(u.EnvFiles, is) }) {
		return true
	}
	name := filepath.Base(file)
	if name == ".env" || strings.HasPrefix(name, ".env.") {
		return true
	}
	ending := path.Ext(name)
	switch ending {
	case ".pem", ".key", ".p12", ".pfx":
		return true
	}
	bare := strings.TrimSuffix(name, ending)
	return slices.ContainsFunc([]string{name, bare, strings.ToUpper(bare)}, p.IsSecret)
}
