package tree

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"omnivigil/internal/store/contents"
	"omnivigil/internal/watch/stamp"
)

// TooLargeError reports that outputs are larger than what is kept of a task.
type TooLargeError struct{ Size, Limit int64 }

func (e *TooLargeError) Error() string {
	return fmt.Sprintf("they have %d MB, and at most %d MB are kept", (e.Size+999_999)/1_000_000, e.Limit/1_000_000)
}

// errWritten reports that a file was written while it was stored.
var errWritten = errors.New("it was written while it was stored")

// Capture stores files, links and empty directories below root, which are named by absolute paths. Known returns the
// sum of a file's contents if it is known, and may be nil. An error tells what cannot be stored, a *TooLargeError that
// all together are larger than limit.
func Capture(root string, names []string, store *contents.Store, known func(file string) (contents.Sum, bool),
	limit int64,
) (Tree, error) {
	t := make(Tree, len(names))
	looks := make([]stamp.Stamp, len(names))
	for i, name := range names {
		var err error
		if t[i], looks[i], err = look(root, name); err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
	}
	if size := t.Size(); limit > 0 && size > limit {
		return nil, &TooLargeError{size, limit}
	}
	if err := t.Check(); err != nil {
		return nil, err
	}
	var work errgroup.Group
	work.SetLimit(runtime.NumCPU())
	for i := range t {
		if t[i].Kind != File {
			continue
		}
		work.Go(func() error {
			if err := t[i].store(names[i], store, known); err != nil {
				return fmt.Errorf("%s: %w", names[i], err)
			}
			if _, now, err := look(root, names[i]); err != nil || now != looks[i] {
				return fmt.Errorf("%s: %w", names[i], errWritten)
			}
			return nil
		})
	}
	if err := work.Wait(); err != nil {
		return nil, err
	}
	slices.SortFunc(t, func(a, b Entry) int { return strings.Compare(a.Path, b.Path) })
	return t, nil
}

// look returns the entry of a path, whose file has no content yet except its size.
func look(root, name string) (e Entry, s stamp.Stamp, err error) {
	rel, err := filepath.Rel(root, name)
	if err != nil || !filepath.IsLocal(rel) {
		return e, s, errors.New("it is outside of the project's directory")
	}
	info, err := os.Lstat(name)
	if err != nil {
		return e, s, err
	}
	e = Entry{Path: filepath.ToSlash(rel), Mode: info.Mode().Perm()}
	switch mode := info.Mode(); {
	case mode&(fs.ModeSetuid|fs.ModeSetgid|fs.ModeSticky) != 0 && !mode.IsDir():
		return e, s, fmt.Errorf("its mode %v is more than permissions", mode)
	case mode.IsRegular():
		e.Kind, e.Time, e.Content.Size = File, info.ModTime().UnixNano(), info.Size()
	case mode.IsDir():
		e.Kind = Directory
	case mode&fs.ModeSymlink != 0:
		e.Kind, e.Mode = Link, 0
		e.Target, err = os.Readlink(name)
	default:
		err = errors.New("it is neither a file nor a link nor a directory")
	}
	return e, stamp.Of(info), err
}

// store stores the content of a file, unless it is in the store.
func (e *Entry) store(name string, store *contents.Store, known func(string) (contents.Sum, bool)) error {
	if known != nil {
		if sum, is := known(name); is {
			if c := (contents.Content{Sum: sum, Size: e.Content.Size}); store.Has(c) {
				e.Content = c
				return nil
			}
		}
	}
	c, err := store.AddFile(name)
	if err == nil && c.Size != e.Content.Size {
		err = errWritten
	}
	e.Content = c
	return err
}
