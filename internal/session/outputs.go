package session

import (
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/engine"
	"omnivigil/internal/output/logbook"
	"omnivigil/internal/plan"
	"omnivigil/internal/session/impact"
	"omnivigil/internal/text/format"
	"omnivigil/internal/watch"
	"omnivigil/internal/watch/pattern"
)

// outputs are what units have made in their last good runs. Its methods may be called from any goroutine.
type outputs struct {
	mu    sync.Mutex
	of    map[string]listing
	sizes map[string][]api.MadeByRun
	burst atomic.Int64 // numbers of changes that the session tells itself, downwards from -1
}

// listing is what the patterns of a unit's outputs matched when a run had ended well.
type listing struct {
	run   int
	files map[string]stamp // by path relative to the project's folder, with forward slashes
	made  []api.Made
	// vanished are the patterns that match nothing any more: something was removed in the moment that it was made.
	vanished []string
}

// stamp is what a file looked like.
type stamp struct {
	at   time.Time
	size int64
}

// list returns what is there of a unit's outputs. It looks at files.
func list(p *plan.Plan, u *plan.Unit) listing {
	l := listing{files: map[string]stamp{}}
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
		l.made = append(l.made, made)
	}
	return l
}

// oldest is the oldest time of its files, zero where there are none.
func (l listing) oldest() time.Time {
	var oldest time.Time
	for _, s := range l.files {
		if oldest.IsZero() || s.at.Before(oldest) {
			oldest = s.at
		}
	}
	return oldest
}

// relativeTo is a file's path relative to a folder where it is below that, else as it is.
func relativeTo(folder, file string) string {
	if rel, err := filepath.Rel(folder, file); err == nil && filepath.IsLocal(rel) {
		return filepath.ToSlash(rel)
	}
	return file
}

// keptSizes is how many runs are remembered of a unit.
const keptSizes = 8

// note remembers what a run has made, and returns which patterns match nothing that matched something before.
func (o *outputs) note(unit string, run int, l listing) (vanished []string) {
	total := api.MadeByRun{Run: run}
	for _, made := range l.made {
		total.Size += made.Size
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.of == nil {
		o.of, o.sizes = map[string]listing{}, map[string][]api.MadeByRun{}
	}
	for _, made := range l.made {
		if made.Files == 0 &&
			slices.ContainsFunc(
				o.of[unit].made,
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

func (o *outputs) sizesOf(unit string) []api.MadeByRun {
	o.mu.Lock()
	defer o.mu.Unlock()
	return slices.Clone(o.sizes[unit])
}

func (o *outputs) last(unit string) (l listing, known bool) {
	o.mu.Lock()
	defer o.mu.Unlock()
	l, known = o.of[unit]
	return l, known
}

// madeWell notes what a run that has ended well has made, and says which patterns match nothing.
func (s *Session) madeWell(u *plan.Unit, run int) listing {
	l := list(s.Plan(), u)
	if vanished := s.outputs.note(u.Name, run, l); len(vanished) > 0 {
		time.AfterFunc(impact.OutputsRest, func() { s.outputsGone(u.Name) })
	}
	var none []string
	for _, made := range l.made {
		if made.Files == 0 {
			none = append(none, made.Pattern)
		}
	}
	if len(none) > 0 {
		s.note(
			logbook.Entry{Unit: u.Name, Run: run, Tone: logbook.Stale},
			"ended well, but its outputs "+format.List(none)+" match no file",
		)
	}
	return l
}

// maxMissing is how many missing files are told of.
const maxMissing = 20

// missing returns which files of a unit's last good result are not there any more, and which patterns match nothing
// any more. It looks at files.
func (s *Session) missing(unit string) []string {
	last, known := s.outputs.last(unit)
	if !known {
		return nil
	}
	var gone []string
	for file := range last.files {
		if _, err := os.Stat(filepath.Join(s.root, filepath.FromSlash(file))); err != nil {
			gone = append(gone, file)
		}
	}
	for _, glob := range last.vanished {
		if len(pattern.Files(s.root, []string{glob})) == 0 {
			gone = append(gone, glob)
		}
	}
	slices.Sort(gone)
	return gone[:min(len(gone), maxMissing)]
}

// outputsGone has the engine hear that outputs are missing, if they are.
func (s *Session) outputsGone(unit string) {
	if gone := s.missing(unit); len(gone) > 0 {
		s.send(engine.OutputsGone{Unit: unit, Burst: int(s.outputs.burst.Add(-1)), Files: gone})
	}
}

// outputsMoved looks what has become of outputs that have changed since that time while their task did not
// run. It is for the loop, and looks at files in another goroutine.
func (l *loop) outputsMoved(unit string, since time.Time, hits []watch.Hit) {
	u := l.plan.Unit(unit)
	last, known := l.outputs.last(unit)
	if live := l.live[unit]; u == nil || !known || live != nil && !live.IsOver() {
		return // it is looked at again when its run has ended
	}
	s, p, looks := l.Session, l.plan, l.looksAtAll(since)
	go func() {
		s.outputsGone(unit)
		if len(hits) == 0 {
			return
		}
		s.lookAgain(looks)
		if slices.ContainsFunc(looks, func(l *look) bool { return l.Wrote != engine.WroteNothing }) {
			return // it may have been one of them
		}
		for _, h := range hits {
			was, made := last.files[h.Path]
			info, err := os.Stat(filepath.Join(p.Root, filepath.FromSlash(h.Path)))
			if !made || err != nil || was == (stamp{info.ModTime(), info.Size()}) || len(impact.Makers(p, h.Path)) > 1 {
				continue
			}
			s.send(engine.OutputChanged{Unit: unit, File: h.Path})
		}
	}()
}

// looksAtAll begins to look at all runs that live.
func (l *loop) looksAtAll(since time.Time) []*look {
	var looks []*look
	for name, live := range l.live {
		if !live.IsOver() && live.Unit.Relay == nil {
			looks = append(looks, l.lookAt(since, engine.RunID{Unit: name, Run: live.Number}))
		}
	}
	return looks
}

// newest returns the newest modification time of the files below a unit's folder which do not concern it, and which
// no other unit makes; zero: there are none. It looks at all files there.
func (s *Session) newest(u *plan.Unit) time.Time {
	inputs := map[string]bool{}
	for _, file := range s.paths(u.Name) {
		inputs[file] = true
	}
	p := s.Plan()
	isOf := func(file string) bool { // rather than another unit's
		makers := impact.Makers(p, relativeTo(p.Root, file))
		return len(makers) == 0 || slices.Contains(makers, u.Name)
	}
	var newest time.Time
	filepath.WalkDir(u.Dir, func(file string, e fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return nil
		case e.IsDir() && (e.Name() == ".git" || file == s.ownFolder):
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

// dated gives hits of units whose programs compare file times the times of their files.
func dated(root string, u *plan.Unit, h engine.Hit) engine.Hit {
	if u.ComparesTimes && h.What != "removed" {
		if info, err := os.Stat(filepath.Join(root, filepath.FromSlash(h.Path))); err == nil {
			h.ModTime = info.ModTime()
		}
	}
	return h
}

// touchDoubted gives the files that are in doubt of these units, or of all, the time that it is now.
func (s *Session) touchDoubted(units []string) (api.Answer, error) {
	now, touched := time.Now(), []string{}
	for _, d := range s.state().Doubts {
		if d.Until.IsZero() || len(units) > 0 && !slices.Contains(units, d.Unit) ||
			!filepath.IsLocal(filepath.FromSlash(d.File)) {
			continue
		}
		if err := os.Chtimes(filepath.Join(s.root, filepath.FromSlash(d.File)), now, now); err != nil {
			return api.Answer{}, api.Refuse("%s", s.clean("cannot touch "+d.File+": "+err.Error()))
		}
		touched = append(touched, d.File)
	}
	if len(touched) == 0 {
		return api.Answer{}, api.Refuse("there is no file to touch: no doubt is about the time of one")
	}
	return api.Answer{Text: "Touched " + s.clean(format.List(touched)) + "."}, nil
}
