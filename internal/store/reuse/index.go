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
	"omnivigil/internal/watch/stamp"
)

// Sum is the SHA-256 of a file's contents.
type Sum [sha256.Size]byte

// known is what was found when a file was read.
type known struct {
	Look stamp.Stamp
	At   int64 // when the reading began
	Sum  Sum
}

// sameTick is how near to each other two times must be for a file to have been written
// between them unseen: systems keep times no finer than their clock's tick.
const sameTick = 20 * time.Millisecond

// sure reports whether the file cannot have been written since without looking otherwise.
func (k known) sure() bool {
	return k.Look.LastChange() < k.At-int64(sameTick)
}

// Index remembers the sums of files, so that one is read again only when it looks
// otherwise. Its methods may be called from any goroutine.
type Index struct {
	file string

	mu    sync.Mutex
	known map[string]known // nil until it is needed
	dirty bool
}

// OpenIndex returns the index that is kept in a file. The file is read when the index is
// first asked; where it cannot be read, the index is empty: it only spares work.
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

// Save keeps the index for the next time, without files that are gone. The error says what
// could not be written.
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

// Sum returns the sum of a file's contents, and what the file looked like. A file that is
// not there is an error that fs.ErrNotExist describes.
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
		return k.Sum, now, nil // written meanwhile: nothing to remember
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
