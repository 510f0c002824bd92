package watch

import "omnivigil/internal/watch/repository"

import (
	"path"
	"time"

	"omnivigil/internal/watch/kernel"
)

// workTrees are those that a tree has found.
type workTrees struct {
	repos    map[*folder]*workTree
	released time.Time // when version control last released its lock
}

// workTree is a repository among the watched directories, and the listeners to its files.
type workTree struct {
	*repository.Repository
	listeners []*listener
}

// After version control has released its lock, a command that takes it repeatedly gets this long to take it again.
const (
	lockPause     = 100 * time.Millisecond
	sequencePause = 300 * time.Millisecond // during a rebase and the like
)

// enterRepository checks whether a directory is the top of a repository.
func (t *tree) enterRepository(f *folder, is bool) {
	if is == (f.repo != nil) {
		return
	}
	if !is {
		t.leaveRepository(f)
		return
	}
	r := repository.Open(f.path)
	if r == nil {
		return
	}
	work := &workTree{Repository: r}
	f.repo, t.repos[f] = work, work
	listen := func(file string, do func(kernel.Signs)) {
		if w := t.listen(file, do); w != nil {
			work.listeners = append(work.listeners, w)
		}
	}
	for _, file := range r.Files {
		listen(file, func(kernel.Signs) {
			t.leaveRepository(f) // it is read again when the tree is recomputed
			t.stale = true
		})
	}
	listen(path.Join(r.Own, repository.LockName), func(kernel.Signs) {
		if _, locked := r.Lock(); !locked {
			t.released = t.clock()
		}
	})
}

func (t *tree) leaveRepository(f *folder) {
	if f.repo != nil {
		t.cut(f.repo.listeners)
		delete(t.repos, f)
		f.repo = nil
	}
}

// held returns the lock that version control holds now, or "".
func (t *tree) held(now time.Time) (lock string, held bool) {
	pause := lockPause
	for _, r := range t.repos {
		file, locked := r.Lock()
		if locked {
			return file, true
		}
		if r.InSequence() {
			pause = sequencePause
		}
		lock = file
	}
	return lock, now.Sub(t.released) < pause
}
