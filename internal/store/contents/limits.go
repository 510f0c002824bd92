package contents

import (
	"cmp"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"
)

// Limits are the limits of a store. What was not used for the longest time is deleted first. Zero: there is none.
type Limits struct {
	Size int64 // bytes, as stored
	Age  time.Duration
}

// Usage is what a store takes.
type Usage struct {
	Contents int   `json:"contents"`
	Bytes    int64 `json:"bytes"` // as stored
}

// stored is a file of the store.
type stored struct {
	path string
	size int64
	used time.Time
}

// tmpAge is how long a file that is being written is left alone.
const tmpAge = time.Hour

// list returns the contents, and removes what a process that was killed left.
func (s *Store) list() (all []stored, err error) {
	err = filepath.WalkDir(s.dir, func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return skipGone(err)
		}
		info, err := e.Info()
		if err != nil {
			return skipGone(err)
		}
		switch folder := filepath.Base(filepath.Dir(path)); {
		case folder == tmp:
			if time.Since(info.ModTime()) > tmpAge {
				os.Remove(path)
			}
		case len(folder) == 2:
			all = append(all, stored{path, info.Size(), lastUse(info)})
		}
		return nil
	})
	return all, err
}

// skipGone ignores what another process has deleted.
func skipGone(err error) error {
	if os.IsNotExist(err) {
		return nil
	}
	return err
}

// Usage returns what the store takes. It walks all of it.
func (s *Store) Usage() (u Usage, err error) {
	all, err := s.list()
	for _, one := range all {
		u.Contents++
		u.Bytes += one.size
	}
	return u, err
}

// Trim enforces the limits. It does nothing while another process does.
func (s *Store) Trim() error {
	s.added.Store(0)
	unlock, locked, err := s.lock()
	if err != nil || !locked {
		return err
	}
	defer unlock()
	now := time.Now()
	os.Chtimes(filepath.Join(s.dir, lockFile), now, now) // otherwise it is done again soon
	all, err := s.list()
	if err != nil {
		return err
	}
	slices.SortFunc(all, func(a, b stored) int { return a.used.Compare(b.used) })
	var total int64
	for _, one := range all {
		total += one.size
	}
	for _, one := range all {
		old := s.limits.Age > 0 && time.Since(one.used) > s.limits.Age
		if !old && (s.limits.Size <= 0 || total <= s.limits.Size) {
			break
		}
		if err := os.Remove(one.path); skipGone(err) != nil {
			return err
		}
		total -= one.size
	}
	return nil
}

// Tidy is Trim if that was not done for a day, or if a sixteenth of the size limit was added since.
func (s *Store) Tidy() error {
	info, err := os.Stat(filepath.Join(s.dir, lockFile))
	due := err != nil || time.Since(info.ModTime()) > 24*time.Hour
	if grown := s.limits.Size > 0 && s.added.Load() >= s.limits.Size/16; !due && !grown {
		return nil
	}
	return s.Trim()
}

// lockFile is locked while limits are enforced. Its time is when that was done last.
const lockFile = "lock"

// Clear deletes all contents, and returns what they took.
func (s *Store) Clear() (u Usage, err error) {
	all, err := s.list()
	for _, one := range all {
		if gone := skipGone(os.Remove(one.path)); gone != nil {
			err = cmp.Or(err, gone)
			continue
		}
		u.Contents++
		u.Bytes += one.size
	}
	return u, err
}
