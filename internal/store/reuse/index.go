package reuse

import (
	"bufio"
	"crypto/sha256"
	"encoding/gob"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"sync"
	"time"

	"omnivigil/internal/files"
	"omnivigil/internal/store/contents"
	"omnivigil/internal/watch/stamp"
)

// Sum is the SHA-256 of a file's contents.
type Sum = contents.Sum

// known is what was found when a file was read.
type known struct {
	Look stamp.Stamp
	At   int64 // the start of reading
	Sum  Sum
}

// sameTick is the minimum time between a change and a look, for another write to be visible: file times are no finer
// than the tick of the system's clock.
const sameTick = 20 * time.Millisecond

// sure reports whether a write to the file since then would be visible.
func (k known) sure() bool {
	return k.Look.LastChange() < k.At-int64(sameTick)
}

// Index remembers the hashes of files, so that a file is read again only if it looks different. Its methods may be
// called from any goroutine.
type Index struct {
	file string

	mu    sync.Mutex
	known map[string]known // nil before its first use
	dirty bool
}

// OpenIndex returns the index in a file. The file is read at the first use of the index; if it cannot be read, the
// index is empty: it only saves work.
func OpenIndex(file string) *Index { return &Index{file: file} }

// find returns what is known of a file.
func (x *Index) find(file string) (known, bool) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.known == nil {
		x.read()
	}
	k, is := x.known[file]
	return k, is
}

func (x *Index) read() {
	if f, err := files.Open(x.file); err == nil {
		defer f.Close()
		if err := gob.NewDecoder(bufio.NewReader(f)).Decode(&x.known); err != nil {
			x.known = nil
		}
	}
	if x.known == nil {
		x.known = map[string]known{}
	}
}

// Save writes the index, without files that no longer exist. The error tells what could not be written.
func (x *Index) Save() error {
	x.mu.Lock()
	defer x.mu.Unlock()
	if !x.dirty {
		return nil
	}
	for file := range x.known {
		if _, err := os.Lstat(file); errors.Is(err, fs.ErrNotExist) {
			delete(x.known, file)
		}
	}
	write := func(w io.Writer) error { return gob.NewEncoder(w).Encode(x.known) }
	if err := files.KeepCache(x.file, write); err != nil {
		return fmt.Errorf("keep what is known of files: %w", err)
	}
	x.dirty = false
	return nil
}

// Sum returns the hash of a file's contents, and its stamp. A file that does not exist is an error that matches
// fs.ErrNotExist.
func (x *Index) Sum(file string) (Sum, stamp.Stamp, error) {
	k, is := x.find(file)
	now, err := lookAt(file)
	if err != nil {
		return Sum{}, now, err
	}
	if is && k.Look == now && k.sure() {
		return k.Sum, now, nil
	}
	k = known{Look: now, At: time.Now().UnixNano()}
	if k.Sum, err = sumOf(file); err != nil {
		return Sum{}, now, err
	}
	if again, err := lookAt(file); err != nil || again != now {
		return k.Sum, now, nil // written in the meantime: not to be remembered
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	x.known[file], x.dirty = k, true
	return k.Sum, now, nil
}

func lookAt(file string) (stamp.Stamp, error) {
	info, err := os.Stat(file)
	if err != nil {
		return stamp.Stamp{}, err
	}
	if !info.Mode().IsRegular() {
		return stamp.Stamp{}, &fs.PathError{Op: "read", Path: file, Err: errors.New("not a regular file")}
	}
	return stamp.Of(info), nil
}

func sumOf(file string) (sum Sum, err error) {
	f, err := files.Open(file)
	if err != nil {
		return sum, fmt.Errorf("read %s: %w", file, files.Reason(err))
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return sum, fmt.Errorf("read %s: %w", file, err)
	}
	return Sum(h.Sum(nil)), nil
}
