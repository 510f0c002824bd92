package watch

import (
	"maps"
	"slices"
	"time"

	"omnivigil/internal/watch/kernel"
	"omnivigil/internal/watch/pattern"
	"omnivigil/internal/watch/stamp"
)

// pollGroup is the directories that are polled, because the kernel does not report their changes or because the
// settings ask for it.
type pollGroup struct {
	folders map[*folder]bool
	next    time.Time
}

// networkPoll is how often a directory on a shared file system is polled.
const networkPoll = time.Second

// restFactor is how many times the duration of a round the pause after it takes at least, so that polling never takes
// more than a twentieth of a core.
const restFactor = 20

// asked returns how often interests ask for the directory to be polled; 0: none does.
func (t *tree) asked(f *folder) time.Duration {
	var least time.Duration
	if !t.matcher.Polls {
		return 0
	}
	t.matcher.EachReachable(f.place, f.out, func(in *pattern.Compiled) bool {
		if in.Poll > 0 && (least == 0 || in.Poll < least) {
			least = in.Poll
		}
		return true
	})
	return least
}

// schedule sets how often a directory is polled, when its kind is known and whether it is watched.
func (t *tree) schedule(f *folder) {
	if f.up == nil || f.up.id.Device != f.id.Device {
		kind, shared := kernel.SharedFileSystem(f.path)
		if f.shared = shared; shared {
			t.remark(
				f.path + " is on a shared file system (" + kind +
					"), which does not tell what others change: it is looked at every second as well",
			)
		}
	}
	every := t.asked(f)
	if every == 0 && (f.shared || !f.watched) {
		every = networkPoll
	}
	if every == f.every {
		return
	}
	t.unschedule(f)
	if f.every = every; every == 0 {
		return
	}
	r := t.pollGroups[every]
	if r == nil {
		r = &pollGroup{folders: map[*folder]bool{}, next: time.Now().Add(every)}
		t.pollGroups[every] = r
	}
	r.folders[f] = true
}

func (t *tree) unschedule(f *folder) {
	if r := t.pollGroups[f.every]; r != nil {
		if delete(r.folders, f); len(r.folders) == 0 {
			delete(t.pollGroups, f.every)
		}
	}
	f.every = 0
	delete(t.unsure, f)
}

// resettle applies a changed poll interval.
func (t *tree) resettle(f *folder) {
	if asked := t.asked(f) > 0; asked == f.watched {
		if asked {
			t.detach(f)
		} else {
			t.attach(f)
		}
	}
	t.schedule(f)
}

// again schedules another look at a directory, when its files are no longer so new that another change could go
// unnoticed.
func (t *tree) again(f *folder) { t.unsure[f] = time.Now().Add(stamp.SoonAfter) }

// nextLook returns when the next directory is to be polled.
func (t *tree) nextLook() (time.Time, bool) {
	var first time.Time
	earliest := func(at time.Time) {
		if first.IsZero() || at.Before(first) {
			first = at
		}
	}
	for _, r := range t.pollGroups {
		earliest(r.next)
	}
	for _, at := range t.unsure {
		earliest(at)
	}
	return first, !first.IsZero()
}

// lookAround polls the directories that are due.
func (t *tree) lookAround(now time.Time) {
	for f, at := range maps.Clone(t.unsure) {
		if !at.After(now) {
			delete(t.unsure, f)
			t.compare(f, kernel.Polled, false)
		}
	}
	for every, r := range maps.Clone(t.pollGroups) {
		if r.next.After(now) {
			continue
		}
		folders := slices.Collect(maps.Keys(r.folders))
		t.tryWatching(folders)
		for _, f := range folders {
			if r.folders[f] {
				t.compare(f, kernel.Polled, false)
			}
		}
		r.next = now.Add(max(every, restFactor*time.Since(now)))
	}
}

// lookEverywhere polls all directories at once, whether they are due or not.
func (t *tree) lookEverywhere() {
	for _, r := range t.pollGroups {
		r.next = time.Time{}
	}
}

// tryWatching tries with one directory whether the limit that prevented watches still holds.
func (t *tree) tryWatching(folders []*folder) {
	for _, f := range folders {
		if f.watched || t.asked(f) > 0 || f.files == nil {
			continue
		}
		if t.attach(f); !f.watched {
			return
		}
		t.schedule(f)
		t.compare(f, kernel.Polled, false) // what happened before the watch
	}
}

// study looks at the files of one directory that was only listed, so that a later look can compare more than their
// times. It reports whether there was such a directory.
func (t *tree) study() bool {
	if len(t.unstudied) == 0 {
		t.unstudied = nil
		return false
	}
	f := t.unstudied[0]
	t.unstudied = t.unstudied[1:]
	for name, m := range f.files {
		if m.Studied || f.links[name] != nil {
			continue
		}
		now := stamp.Lstat(f.join(name))
		if now.Kind == stamp.File && !m.Differs(now.Mark, f.read, false) {
			f.files[name] = now.Mark
			if now.Mark.Links > 1 {
				t.tie(f, name, now.Mark.ID)
			}
		}
	}
	return true
}

func (t *tree) studyAll() {
	for t.study() {
	}
}

func (t *tree) eachFolder(do func(*folder)) {
	var each func(*folder)
	each = func(f *folder) {
		do(f)
		for _, s := range f.subs {
			each(s)
		}
	}
	for _, a := range t.anchors {
		each(a)
	}
}
