// Package contents is a store of contents, each named by its SHA-256, for all projects of a user. Start reading at
// Store.
//
// A content is a file below the store's directory: the first two hexadecimal digits of its sum are a directory, the
// rest is its name. It is compressed with Zstandard (RFC 8878) and then ends in ".zst", or it is as it is, where the
// file system can share the blocks of files. The modification time is when it was last verified, the access time when
// it was last used. A content is written to "tmp" first and then renamed, so a process that is killed leaves nothing
// that counts, and several processes can use a store.
package contents

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"github.com/klauspost/compress/zstd"

	"omnivigil/internal/files"
)

// Sum is the SHA-256 of a content.
type Sum [sha256.Size]byte

func (s Sum) String() string { return hex.EncodeToString(s[:]) }

// MarshalText and UnmarshalText write a sum as hexadecimal digits.
func (s Sum) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

func (s *Sum) UnmarshalText(text []byte) error {
	if hex.DecodedLen(len(text)) != len(s) {
		return fmt.Errorf("%q is no SHA-256", text)
	}
	_, err := hex.Decode(s[:], text)
	return err
}

// SumOf returns the sum of data.
func SumOf(data []byte) Sum { return sha256.Sum256(data) }

// Content is what is stored: its sum and its size in bytes.
type Content struct {
	Sum  Sum   `json:"sum"`
	Size int64 `json:"size"`
}

// ErrAbsent reports that a content is not in the store, or is damaged.
var ErrAbsent = errors.New("it is no longer in the store")

// verifyAfter is how long a content counts as undamaged.
const verifyAfter = 24 * time.Hour

// packed is the ending of compressed contents.
const packed = ".zst"

// Store is a store in a directory, which need not exist. Its methods may be called from any goroutine.
type Store struct {
	dir    string
	limits Limits
	// added is how many bytes were added since the limits were last enforced.
	added atomic.Int64
	// shares: the last content that was looked at was not compressed.
	shares atomic.Bool
}

// In returns the store in a directory.
func In(dir string, limits Limits) *Store { return &Store{dir: dir, limits: limits} }

// Dir is the directory of the store.
func (s *Store) Dir() string { return s.dir }

// path is where a content is, without the ending of a compressed one.
func (s *Store) path(sum Sum) string {
	name := sum.String()
	return filepath.Join(s.dir, name[:2], name[2:])
}

// Has reports whether a content is in the store, and counts as a use of it. It does not read the content.
func (s *Store) Has(c Content) bool {
	path, info := s.find(c.Sum)
	if info == nil || filepath.Ext(path) != packed && info.Size() != c.Size {
		return false
	}
	s.used(path, info)
	return true
}

// find returns the file of a content; nil: there is none.
func (s *Store) find(sum Sum) (string, fs.FileInfo) {
	for _, ending := range s.endings() {
		path := s.path(sum) + ending
		if info, err := os.Lstat(path); err == nil && info.Mode().IsRegular() {
			s.shares.Store(ending == "")
			return path, info
		}
	}
	return "", nil
}

// usePause is the accuracy of the time of the last use.
const usePause = time.Minute

func (s *Store) used(path string, info fs.FileInfo) {
	if now := time.Now(); now.Sub(lastUse(info)) > usePause {
		os.Chtimes(path, now, time.Time{}) // without it, the content is only deleted earlier
	}
}

// AddFile stores the contents of a regular file, and returns them. The file must not be written meanwhile.
func (s *Store) AddFile(file string) (Content, error) {
	f, err := files.Open(file)
	if err != nil {
		return Content{}, err
	}
	defer f.Close()
	return s.add(f)
}

// Add stores data.
func (s *Store) Add(data []byte) (Content, error) {
	c := Content{SumOf(data), int64(len(data))}
	if s.Has(c) {
		return c, nil
	}
	p, err := s.begin(packed)
	if err != nil {
		return c, err
	}
	defer p.discard()
	w := encoder(p.file)
	defer encoders.Put(w)
	if _, err := w.Write(data); err != nil {
		return c, err
	}
	return c, errors.Join(w.Close(), p.keep(c.Sum))
}

// add stores what a file has, from which nothing was read.
func (s *Store) add(from *os.File) (Content, error) {
	p, err := s.begin(packed)
	if err != nil {
		return Content{}, err
	}
	defer p.discard()
	h := sha256.New()
	if cloneFile(p.file, from) == nil {
		p.ending = ""
		size, err := copyTo(h, p.file) // what was cloned: the original may change
		if err != nil {
			return Content{}, err
		}
		return s.finish(p, h, size)
	}
	w := encoder(p.file)
	defer encoders.Put(w)
	size, err := copyTo(io.MultiWriter(h, w), from)
	if err = errors.Join(err, w.Close()); err != nil {
		return Content{}, err
	}
	return s.finish(p, h, size)
}

// finish keeps what was written, unless it is in the store already.
func (s *Store) finish(p *pending, h hash.Hash, size int64) (Content, error) {
	c := Content{Sum(h.Sum(nil)), size}
	if s.Has(c) {
		return c, nil
	}
	return c, p.keep(c.Sum)
}

// WriteTo writes a content, and verifies it if it was not verified for a day. ErrAbsent: it is not in the store, or was
// damaged; then what was written must be discarded.
func (s *Store) WriteTo(to io.Writer, c Content) error {
	path, f, info := s.open(c.Sum)
	if f == nil {
		return ErrAbsent
	}
	defer f.Close()
	file, is := to.(*os.File)
	if is && filepath.Ext(path) != packed && info.Size() == c.Size && !s.isDue(info) && cloneFile(file, f) == nil {
		s.used(path, info)
		return nil
	}
	if err := s.writeChecked(to, f, path, info, c); err != nil {
		return err
	}
	s.used(path, info)
	return nil
}

// open opens the file of a content; nil: there is none.
func (s *Store) open(sum Sum) (path string, f *os.File, info fs.FileInfo) {
	for _, ending := range s.endings() {
		path = s.path(sum) + ending
		f, err := os.OpenFile(path, os.O_RDONLY|noFollow, 0)
		if err != nil {
			continue
		}
		if info, err = f.Stat(); err == nil && info.Mode().IsRegular() {
			s.shares.Store(ending == "")
			return path, f, info
		}
		f.Close()
	}
	return "", nil, nil
}

// endings are those that a content may have, the more likely one first.
func (s *Store) endings() [2]string {
	if s.shares.Load() {
		return [2]string{"", packed}
	}
	return [2]string{packed, ""}
}

func (s *Store) isDue(info fs.FileInfo) bool { return time.Since(info.ModTime()) > verifyAfter }

// writeChecked writes a content from its file, with its size checked, and its sum if that is due.
func (s *Store) writeChecked(to io.Writer, f *os.File, path string, info fs.FileInfo, c Content) error {
	var from io.Reader = f
	if filepath.Ext(path) == packed {
		r := decoder(f)
		defer decoders.Put(r)
		from = r
	}
	h, due := sha256.New(), s.isDue(info)
	out := to
	if due {
		out = io.MultiWriter(to, h)
	}
	written := &checked{to: out, left: c.Size}
	_, err := copyTo(written, from)
	switch {
	case written.err != nil: // the destination, such as a full disk
		return written.err
	case err != nil || written.left != 0, due && Sum(h.Sum(nil)) != c.Sum:
		os.Remove(path)
		return ErrAbsent
	}
	if due {
		now := time.Now()
		os.Chtimes(path, now, now) // otherwise it is verified again
	}
	return nil
}

// checked writes at most so many bytes.
type checked struct {
	to   io.Writer
	left int64
	err  error // of the destination
}

var errTooLarge = errors.New("it is larger than it should be")

func (c *checked) Write(p []byte) (int, error) {
	if int64(len(p)) > c.left {
		return 0, errTooLarge
	}
	n, err := c.to.Write(p)
	c.left -= int64(n)
	c.err = err
	return n, err
}

// Read returns a content of at most limit bytes.
func (s *Store) Read(c Content, limit int64) ([]byte, error) {
	if c.Size > limit {
		return nil, fmt.Errorf("it has %d bytes, and at most %d are read", c.Size, limit)
	}
	data := make(sliceWriter, 0, c.Size)
	err := s.WriteTo(&data, c)
	return data, err
}

type sliceWriter []byte

func (w *sliceWriter) Write(p []byte) (int, error) {
	*w = append(*w, p...)
	return len(p), nil
}

// pending is a file that is being written into the store.
type pending struct {
	store  *Store
	file   *os.File
	ending string
	kept   bool
}

// tmp is the directory of files that are being written.
const tmp = "tmp"

func (s *Store) begin(ending string) (*pending, error) {
	dir := filepath.Join(s.dir, tmp)
	f, err := os.CreateTemp(dir, "") // its mode is 0600
	if errors.Is(err, fs.ErrNotExist) {
		if err = os.MkdirAll(dir, 0o700); err == nil {
			f, err = os.CreateTemp(dir, "")
		}
	}
	if err != nil {
		return nil, err
	}
	return &pending{store: s, file: f, ending: ending}, nil
}

// keep moves the file to its place.
func (p *pending) keep(sum Sum) error {
	size, err := p.file.Seek(0, io.SeekEnd)
	if err != nil {
		return err
	}
	to := p.store.path(sum) + p.ending
	if err := p.file.Close(); err != nil {
		return err
	}
	err = os.Rename(p.file.Name(), to)
	if errors.Is(err, fs.ErrNotExist) {
		if err = os.Mkdir(filepath.Dir(to), 0o700); err == nil || errors.Is(err, fs.ErrExist) {
			err = os.Rename(p.file.Name(), to)
		}
	}
	if p.kept = err == nil; p.kept {
		p.store.added.Add(size)
	}
	return err
}

// discard removes the file, unless it was kept.
func (p *pending) discard() {
	p.file.Close()
	if !p.kept { // otherwise another process may have a file of that name
		os.Remove(p.file.Name())
	}
}

// buffers are for copying.
var buffers = sync.Pool{New: func() any { return new([128 << 10]byte) }}

func copyTo(to io.Writer, from io.Reader) (int64, error) {
	b := buffers.Get().(*[128 << 10]byte)
	defer buffers.Put(b)
	return io.CopyBuffer(struct{ io.Writer }{to}, struct{ io.Reader }{from}, b[:])
}

var (
	encoders = sync.Pool{New: func() any {
		w, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1),
			zstd.WithWindowSize(1<<20))
		if err != nil {
			panic(err) // the options are constants
		}
		return w
	}}
	decoders = sync.Pool{New: func() any {
		r, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(8<<20))
		if err != nil {
			panic(err)
		}
		return r
	}}
)

func encoder(to io.Writer) *zstd.Encoder {
	w := encoders.Get().(*zstd.Encoder)
	w.Reset(to)
	return w
}

func decoder(from io.Reader) *zstd.Decoder {
	r := decoders.Get().(*zstd.Decoder)
	r.Reset(from) // its error is that of the first read
	return r
}

// Packed returns a content as it is compressed, and the size of that. The caller closes it. ErrAbsent: it is not in the
// store. It is not verified: AddPacked of another store does that.
func (s *Store) Packed(c Content) (io.ReadCloser, int64, error) {
	path, f, info := s.open(c.Sum)
	if f == nil {
		return nil, 0, ErrAbsent
	}
	s.used(path, info)
	if filepath.Ext(path) == packed {
		return f, info.Size(), nil
	}
	defer f.Close()
	p, err := s.begin(packed)
	if err != nil {
		return nil, 0, err
	}
	os.Remove(p.file.Name()) // it is only read once
	w := encoder(p.file)
	defer encoders.Put(w)
	_, err = copyTo(w, f)
	var size int64
	if err = errors.Join(err, w.Close()); err == nil {
		size, err = p.file.Seek(0, io.SeekEnd)
	}
	if err == nil {
		_, err = p.file.Seek(0, io.SeekStart)
	}
	if err != nil {
		p.file.Close()
		return nil, 0, err
	}
	return p.file, size, nil
}

// errOther reports that a content is not what it should be.
var errOther = errors.New("it is not what its name says")

// AddPacked stores a compressed content that comes from elsewhere, after it has been verified. What arrives is also
// written to progress, decompressed.
func (s *Store) AddPacked(from io.Reader, c Content, progress io.Writer) error {
	p, err := s.begin(packed)
	if err != nil {
		return err
	}
	defer p.discard()
	h := sha256.New()
	r := decoder(io.TeeReader(from, p.file))
	defer decoders.Put(r)
	to := &checked{to: io.MultiWriter(h, progress), left: c.Size}
	if _, err := copyTo(to, r); err != nil {
		return err
	}
	if to.left != 0 || Sum(h.Sum(nil)) != c.Sum {
		return errOther
	}
	return p.keep(c.Sum)
}
