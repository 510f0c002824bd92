package logbook

import (
	"fmt"
	"io"
	"iter"
	"math"
	"os"
	"path/filepath"
	"time"
)

// segment is a segment that is being written. The book's lock guards it, except for its files, which only the book's
// writer uses.
type segment struct {
	index
	path     string // of its files, without their extensions
	number   int
	midnight time.Time     // from which on lines are of another day
	ids      map[Entry]int // of sources that lines may still come from
	millis   int64         // the time in clock
	clock    [len(clockForm)]byte
	heads    []byte // for head
	spare    *spareBuffers
	buffers  []*buffer // what is not on disk, in order

	texts, codes   *os.File // nil before they are created, and after they are closed
	textAt, codeAt int64    // how much of each is on disk
}

// maxIDs limits the sources whose ids are remembered.
const maxIDs = 256

// clockForm is the time at the beginning of a line.
const clockForm = "15:04:05.000 "

// buffer is what is written in one write.
type buffer struct {
	text, codes []byte
	cut         bool // it is complete
	seen        bool // a view has it
}

func newSegment(dir string, number int, first int64, at time.Time, spare *spareBuffers) *segment {
	y, m, d := at.Date()
	s := &segment{
		path:   filepath.Join(dir, fmt.Sprintf("%04d-%s", number, at.Format(time.DateOnly))),
		number: number, midnight: time.Date(y, m, d+1, 0, 0, 0, 0, at.Location()), ids: map[Entry]int{}, millis: -1,
		spare: spare,
	}
	h := header(first, at.UnixNano())
	if err := s.begin(h); err != nil {
		panic(err) // the header is our own
	}
	s.buffers = []*buffer{{codes: h}}
	return s
}

// append adds lines and returns how many bytes they add to what is not on disk. Lines of a terminal may end with
// carriage returns, which are left out.
func (s *segment) append(e Entry, at time.Time, width int, lines iter.Seq[[]byte]) int {
	b := s.buffer()
	textBefore, codesBefore := len(b.text), len(b.codes)
	id, known := s.ids[e]
	head := s.head(e, at, width)
	if !known {
		if len(s.ids) == maxIDs { // most are of runs that have ended; a source may have more than one id
			clear(s.ids)
		}
		id = len(s.sources)
		s.ids[e] = id
		b.codes = appendSource(b.codes, source{e, len(head)})
	}
	n := 0
	for line := range lines {
		for len(line) > 0 && line[len(line)-1] == '\r' {
			line = line[:len(line)-1]
		}
		b.text = append(b.text, head...)
		b.text = append(b.text, line...)
		b.text = append(b.text, '\n')
		n++
	}
	b.codes = appendBatch(b.codes, id, at.UnixNano()-s.last, n, len(b.text)-textBefore)
	s.take(b.codes[codesBefore:], math.MaxInt64)
	return len(b.text) - textBefore + len(b.codes) - codesBefore
}

// head returns what comes before the text of a line: time, name, and for an event its unit. It is valid until the
// next call.
func (s *segment) head(e Entry, at time.Time, width int) []byte {
	name := e.Unit
	if e.Stream != Output {
		name = Self
	}
	if ms := at.UnixMilli(); ms != s.millis {
		s.millis = ms
		copy(s.clock[:], at.Format(clockForm))
	}
	h := append(s.heads[:0], s.clock[:]...)
	h = append(h, name...)
	for n := len(name); n < max(width, len(name))+2; n++ {
		h = append(h, ' ')
	}
	if name != e.Unit && e.Unit != "" {
		h = append(append(h, e.Unit...), ' ')
	}
	s.heads = h
	return h
}

// spareBuffers are buffers for reuse, by all segments of a book.
type spareBuffers []*buffer

// maxSpare is how many buffers are kept for reuse: half of what a disk may be behind.
const maxSpare = maxBehind / 2 / worthWrite

// get returns a buffer; nil: there is none.
func (s *spareBuffers) get() *buffer {
	n := len(*s)
	if n == 0 {
		return nil
	}
	b := (*s)[n-1]
	*s = (*s)[:n-1]
	return b
}

// put keeps a buffer that was written, unless it is in use, large, or not needed.
func (s *spareBuffers) put(b *buffer) {
	if !b.seen && len(*s) < maxSpare && cap(b.text) <= 2*worthWrite {
		*s = append(*s, &buffer{text: b.text[:0], codes: b.codes[:0]})
	}
}

// buffer returns the buffer that lines are added to.
func (s *segment) buffer() *buffer {
	full := false
	if n := len(s.buffers); n > 0 {
		b := s.buffers[n-1]
		if full = len(b.text) >= worthWrite; !full && !b.cut {
			return b
		}
	}
	b := s.spare.get()
	if b == nil {
		b = &buffer{}
		if full { // this one will be free in a moment, too
			b.text = make([]byte, 0, worthWrite+worthWrite/2)
		}
	}
	s.buffers = append(s.buffers, b)
	return b
}

// cut completes the existing buffers, so that they can be written.
func (s *segment) cut() []*buffer {
	for _, b := range s.buffers {
		b.cut = true
	}
	return s.buffers[:len(s.buffers):len(s.buffers)]
}

// write writes complete buffers, and returns how many it has written; it may be called again for the others.
func (s *segment) write(buffers []*buffer) (n int, err error) {
	if s.texts == nil {
		if s.texts, err = create(s.path + textEnding); err != nil {
			return 0, err
		}
	}
	if s.codes == nil {
		if s.codes, err = create(s.path + indexEnding); err != nil {
			return 0, err
		}
	}
	for _, b := range buffers {
		if _, err := s.texts.WriteAt(b.text, s.textAt); err != nil {
			return n, err
		}
		if _, err := s.codes.WriteAt(b.codes, s.codeAt); err != nil {
			return n, err
		}
		s.textAt, s.codeAt = s.textAt+int64(len(b.text)), s.codeAt+int64(len(b.codes))
		n++
	}
	return n, nil
}

// restore creates the segment's files again if others have removed them, with their contents, and reports whether it
// did. The system keeps the contents of a file as long as it is open.
func (s *segment) restore() (restored bool, err error) {
	for _, f := range []struct {
		file   **os.File
		ending string
		size   int64
	}{{&s.texts, textEnding, s.textAt}, {&s.codes, indexEnding, s.codeAt}} {
		if *f.file == nil {
			continue
		}
		have, err := (*f.file).Stat()
		if err != nil {
			return restored, err
		}
		if there, err := os.Lstat(s.path + f.ending); err == nil && os.SameFile(have, there) {
			continue
		}
		again, err := create(s.path + f.ending)
		if err != nil {
			return restored, err
		}
		if _, err := io.Copy(again, io.NewSectionReader(*f.file, 0, f.size)); err != nil {
			again.Close()
			os.Remove(s.path + f.ending)
			return restored, err
		}
		(*f.file).Close()
		*f.file, restored = again, true
	}
	return restored, nil
}

// create creates a file, and its directory if that does not exist.
func create(path string) (*os.File, error) {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return nil, err
	}
	return os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600)
}

// drop forgets buffers that are on disk and returns their size in bytes.
func (s *segment) drop(n int) int {
	size := 0
	for _, b := range s.buffers[:n] {
		size += len(b.text) + len(b.codes)
		s.spare.put(b)
	}
	s.buffers = append([]*buffer(nil), s.buffers[n:]...)
	return size
}

// close closes its files, and reports whether they were open.
func (s *segment) close() bool {
	open := s.texts != nil
	for _, f := range []**os.File{&s.texts, &s.codes} {
		if *f != nil {
			(*f).Close()
			*f = nil
		}
	}
	return open
}

// view returns the current state of the segment.
func (s *segment) view() part {
	p := part{index: s.frozen(), path: s.path}
	text, codes := s.index.text, s.taken
	p.texts, p.codes = make([]span, len(s.buffers)), make([]span, len(s.buffers))
	for i := len(s.buffers) - 1; i >= 0; i-- {
		b := s.buffers[i]
		b.seen = true
		text, codes = text-int64(len(b.text)), codes-int64(len(b.codes))
		p.texts[i], p.codes[i] = span{text, b.text}, span{codes, b.codes}
	}
	return p
}
