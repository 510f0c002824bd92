// Package tree stores the outputs of a task in a store of contents, and restores them. Start reading at Capture and
// Restore.
package tree

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
	"strings"

	"omnivigil/internal/store/contents"
)

// Tree are files, links and empty directories, in order of their paths.
type Tree []Entry

// Entry is a file, a link or an empty directory.
type Entry struct {
	Path string      `json:"path"` // relative to the project's directory, with forward slashes
	Kind Kind        `json:"kind"`
	Mode fs.FileMode `json:"mode,omitempty"` // permissions; of a link none
	Time int64       `json:"time,omitempty"` // of a file: its modification, in nanoseconds since 1970
	// Content is what a file has.
	Content contents.Content `json:"content,omitzero"`
	Target  string           `json:"target,omitempty"` // of a link
}

// Kind is the kind of an entry.
type Kind string

const (
	File      Kind = "file"
	Link      Kind = "link"
	Directory Kind = "directory" // that is empty
)

// same reports whether entries are equal except for their times.
func (e Entry) same(as Entry) bool {
	e.Time = as.Time
	return e == as
}

// Size is the sum of the sizes of all files.
func (t Tree) Size() (size int64) {
	for _, e := range t {
		size += e.Content.Size
	}
	return size
}

// Differences returns the paths of which two trees have different entries, or only one has any.
func (t Tree) Differences(other Tree) (paths []string) {
	known := map[string]Entry{}
	for _, e := range other {
		known[e.Path] = e
	}
	for _, e := range t {
		if was, is := known[e.Path]; !is || !was.same(e) {
			paths = append(paths, e.Path)
		}
		delete(known, e.Path)
	}
	for _, e := range other {
		if _, missing := known[e.Path]; missing {
			paths = append(paths, e.Path)
		}
	}
	return paths
}

// Check reports why a tree must not be restored: it has a path outside of the directory, a path below a file or a
// link, a path that differs from another one only by case, a link that leaves the directory, or a mode with more than
// permissions.
func (t Tree) Check() error {
	folded := map[string]string{} // paths and the directories above them, by their lower case
	isDir := map[string]bool{}
	for _, e := range t {
		if err := e.check(); err != nil {
			return fmt.Errorf("%q: %w", e.Path, err)
		}
		for p, above := e.Path, false; p != "."; p, above = path.Dir(p), true {
			lower := strings.ToLower(p)
			was, known := folded[lower]
			switch {
			case known && was != p:
				return fmt.Errorf("%q and %q differ only by case", was, p)
			case known && (!above || !isDir[p]):
				return fmt.Errorf("%q is there twice, or below a file", p)
			case known:
			default:
				folded[lower], isDir[p] = p, above
			}
		}
	}
	return nil
}

func (e Entry) check() error {
	switch {
	case !fs.ValidPath(e.Path) || e.Path == "." || !filepath.IsLocal(filepath.FromSlash(e.Path)) ||
		strings.ContainsAny(e.Path, "\x00\\"):
		return errors.New("it is not a path within the directory")
	case e.Mode&^fs.ModePerm != 0:
		return fmt.Errorf("its mode %v is more than permissions", e.Mode)
	case e.Kind == Link:
		return checkTarget(e.Path, e.Target)
	case e.Kind == File && e.Content.Size >= 0, e.Kind == Directory:
		return nil
	}
	return errors.New("it is neither a file nor a link nor a directory")
}

// checkTarget reports why a link is not restored.
func checkTarget(link, target string) error {
	if to := path.Join(path.Dir(link), filepath.ToSlash(target)); target == "" || path.IsAbs(target) ||
		filepath.IsAbs(target) || !filepath.IsLocal(filepath.FromSlash(to)) {
		return fmt.Errorf("the link leads to %q, outside of the project's directory", target)
	}
	return nil
}
