package watch

import (
	"hash/maphash"
	"io"
	"path/filepath"
	"time"

	"omnivigil/internal/files"
	"omnivigil/internal/watch/stamp"
)

// contents remembers what files contained when they were last reported, for interests that want to know only of
// changed contents.
type contents struct {
	seed maphash.Seed
	sums map[string]map[string]uint64 // by interest and absolute path
	todo []*folder                    // whose files have not been read yet
}

// largest is the maximum size of a file to compare; reading a larger one would take longer than acting.
const largest = 32 << 20

func newContents() *contents {
	return &contents{seed: maphash.MakeSeed(), sums: map[string]map[string]uint64{}}
}

// sum returns a fingerprint of a file, if it exists and is not too large.
func (c *contents) sum(file string) (uint64, bool) {
	f, err := files.Open(filepath.FromSlash(file))
	if err != nil {
		return 0, false
	}
	defer f.Close()
	if info, err := f.Stat(); err != nil || info.Size() > largest {
		return 0, false
	}
	var h maphash.Hash
	h.SetSeed(c.seed)
	if _, err := io.Copy(&h, f); err != nil {
		return 0, false
	}
	return h.Sum64(), true
}

// isOther reports whether the contents of a file differ from when it was last asked about for the interest, as far as
// is known.
func (c *contents) isOther(key, file string) bool {
	known, was := c.sums[key][file]
	now, is := c.sum(file)
	c.note(key, file, now, is)
	return !was || !is || known != now
}

func (c *contents) note(key, file string, sum uint64, is bool) {
	if !is {
		delete(c.sums[key], file)
		return
	}
	if c.sums[key] == nil {
		c.sums[key] = map[string]uint64{}
	}
	c.sums[key][file] = sum
}

// want schedules reading the files of all directories, if an interest needs it.
func (c *contents) want(t *tree) {
	c.todo = nil
	for _, in := range t.matcher.Interests {
		if in.SkipUnchanged {
			t.eachFolder(func(f *folder) { c.todo = append(c.todo, f) })
			return
		}
	}
}

// read reads the files of one directory and reports whether there was one to read. A file that changed since it was
// first seen is left out: its earlier contents are unknown.
func (c *contents) read(t *tree, opened time.Time) bool {
	if len(c.todo) == 0 {
		return false
	}
	f := c.todo[0]
	c.todo = c.todo[1:]
	for name := range f.files {
		file := f.join(name)
		if stamp.Stat(file).Mark.LastChange() >= opened.Add(-stamp.SoonAfter).UnixNano() {
			continue
		}
		for _, a := range t.matcher.Hears(f.place, name, f.ignores(name, false)) {
			in := &t.matcher.Interests[a.Interest]
			if _, known := c.sums[in.Key][file]; in.SkipUnchanged && !known {
				sum, is := c.sum(file)
				c.note(in.Key, file, sum, is)
			}
		}
	}
	return true
}
