package logbook

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"sort"
	"sync"
	"time"
)

// View is a log at one moment. Later writes do not change it, and reading takes no lock. Its methods may be called
// from any goroutine; they read files. What was deleted since because of the limits is left out.
type View struct{ parts []part }

// part is a segment of a view.
type part struct {
	index
	path  string // of the files, without their extensions
	texts []span // of the text, what is not yet on disk
	codes []span // the same of the index
}

// span is a part of a file that is in memory.
type span struct {
	at   int64 // the offset in the file
	data []byte
}

const (
	textEnding  = ".log"
	indexEnding = ".index"
)

// First returns the number of the first line that still exists.
func (v *View) First() int64 {
	if len(v.parts) == 0 {
		return 0
	}
	return v.parts[0].first
}

// End returns the number of the next line.
func (v *View) End() int64 {
	if len(v.parts) == 0 {
		return 0
	}
	return v.parts[len(v.parts)-1].end()
}

// Batch is lines of one source that were written at once.
type Batch struct {
	*Entry
	First int64 // the number of its first line
	Lines int64
	At    int64  // nanoseconds since 1970
	Text  []byte // whole lines, with line ends; the last end may be missing
	head  int
}

// Each calls visit with the number of each line, its text, and the whole line, until visit returns false, and reports
// whether it never did. Both slices belong to the batch.
func (b *Batch) Each(visit func(number int64, text, whole []byte) bool) bool {
	rest := b.Text
	for n := b.First; n < b.First+b.Lines; n++ {
		whole := rest
		if i := bytes.IndexByte(rest, '\n'); i >= 0 {
			whole, rest = rest[:i], rest[i+1:]
		} else {
			rest = nil
		}
		if !visit(n, b.TextOf(whole), whole) {
			return false
		}
	}
	return true
}

// EachBack is Each from the last line to the first.
func (b *Batch) EachBack(visit func(number int64, text []byte) bool) bool {
	rest := bytes.TrimSuffix(b.Text, []byte("\n"))
	for n := b.First + b.Lines - 1; n >= b.First; n-- {
		from := bytes.LastIndexByte(rest, '\n') + 1
		if !visit(n, b.TextOf(rest[from:])) {
			return false
		}
		rest = rest[:max(from-1, 0)]
	}
	return true
}

// TextOf returns the text of a whole line of the batch.
func (b *Batch) TextOf(whole []byte) []byte { return whole[min(b.head, len(whole)):] }

// Chunk is consecutive batches.
type Chunk struct {
	First, End int64   // the numbers of the first line and of the one after the last
	Batches    []Batch // of all sources, even those that were not requested
	Text       []byte  // of all batches
}

// Scan reads chunks, from the one with a line on, or backwards from it; the lines of a chunk are always in their
// order. Chunks without a line of a wanted source are skipped; nil: all sources are wanted. It ends when visit
// returns false or an error. A chunk is valid until visit returns.
func (v *View) Scan(from int64, back bool, wanted func(*Entry) bool, visit func(*Chunk) (bool, error)) error {
	s := scans.Get().(*scan)
	defer scans.Put(s)
	at := sort.Search(len(v.parts), func(i int) bool { return v.parts[i].end() > from })
	step := 1
	if back {
		step, at = -1, min(at, len(v.parts)-1)
	}
	for ; at >= 0 && at < len(v.parts); at += step {
		more, err := s.part(&v.parts[at], from, back, wanted, visit)
		if errors.Is(err, fs.ErrNotExist) {
			continue // deleted in the meantime
		}
		if err != nil || !more {
			return err
		}
	}
	return nil
}

// scans are for reuse: drawing a screen begins many.
var scans = sync.Pool{New: func() any { return &scan{} }}

// scan is what is reused from chunk to chunk.
type scan struct {
	chunk Chunk
	text  []byte
	codes []byte
}

func (s *scan) part(
	p *part,
	from int64,
	back bool,
	wanted func(*Entry) bool,
	visit func(*Chunk) (bool, error),
) (more bool, err error) {
	opened := segmentFiles{part: p}
	defer opened.close()
	want := wants(p.sources, wanted)
	at, step := p.find(from), 1
	if back {
		at, step = min(at, len(p.blocks)-1), -1
	}
	for ; at >= 0 && at < len(p.blocks); at += step {
		b := &p.blocks[at]
		if !want(b.sources) {
			continue
		}
		if err := s.read(&opened, b); err != nil {
			return false, err
		}
		if more, err := visit(&s.chunk); err != nil || !more {
			return false, err
		}
	}
	return true, nil
}

// wants returns whether any of some sources is wanted, and remembers the answer for each.
func wants(sources []source, wanted func(*Entry) bool) func([]uint32) bool {
	if wanted == nil {
		return func([]uint32) bool { return true }
	}
	const yes, no = 1, 2
	known := make([]byte, len(sources))
	return func(ids []uint32) bool {
		for _, id := range ids {
			if known[id] == 0 {
				if known[id] = no; wanted(&sources[id].Entry) {
					known[id] = yes
				}
			}
			if known[id] == yes {
				return true
			}
		}
		return false
	}
}

// read reads a block.
func (s *scan) read(f *segmentFiles, b *block) (err error) {
	if s.codes, err = f.read(s.codes, b.records, b.length, indexEnding); err != nil {
		return err
	}
	if s.text, err = f.read(s.text, b.text, b.size, textEnding); err != nil {
		return err
	}
	s.chunk = Chunk{First: b.first, End: b.end(), Batches: s.chunk.Batches[:0], Text: s.text}
	text, number, at := s.text, b.first, b.before
	for codes := s.codes; len(codes) > 0; {
		r, err := readRecord(codes)
		if err != nil {
			return fmt.Errorf("read the log %s%s: %w", f.part.path, indexEnding, err)
		}
		codes = codes[r.length:]
		if r.source != nil {
			continue
		}
		source := &f.part.sources[r.id]
		at += r.later
		s.chunk.Batches = append(s.chunk.Batches, Batch{
			Entry: &source.Entry, head: source.head, First: number, Lines: r.lines, At: at, Text: text[:r.size:r.size],
		})
		text, number = text[r.size:], number+r.lines
	}
	return nil
}

// segmentFiles reads a segment's files, which are opened on demand.
type segmentFiles struct {
	part        *part
	text, index *os.File
}

func (f *segmentFiles) close() {
	for _, file := range []*os.File{f.text, f.index} {
		if file != nil {
			file.Close()
		}
	}
}

// read reads a part of a file into buf, or into a larger buffer.
func (f *segmentFiles) read(buf []byte, at, size int64, ending string) ([]byte, error) {
	file, spans := &f.text, f.part.texts
	if ending == indexEnding {
		file, spans = &f.index, f.part.codes
	}
	if int64(cap(buf)) < size {
		buf = make([]byte, size+size/2)
	}
	buf = buf[:size]
	onDisk := size
	if len(spans) > 0 {
		onDisk = min(max(spans[0].at-at, 0), size)
	}
	if onDisk > 0 {
		if *file == nil {
			var err error
			if *file, err = os.Open(f.part.path + ending); err != nil {
				return nil, fmt.Errorf("read the log: %w", err)
			}
		}
		if n, err := (*file).ReadAt(buf[:onDisk], at); err != nil && !(err == io.EOF && int64(n) == onDisk) {
			return nil, fmt.Errorf("read the log: %w", err)
		}
	}
	for _, s := range spans {
		if from := at + onDisk; onDisk < size && from >= s.at && from < s.at+int64(len(s.data)) {
			onDisk += int64(copy(buf[onDisk:], s.data[from-s.at:]))
		}
	}
	return buf, nil
}

// At returns the number of the first line that was written at a time or later.
func (v *View) At(t time.Time) (int64, error) {
	at := t.UnixNano()
	i := sort.Search(len(v.parts), func(i int) bool { return v.parts[i].last >= at })
	if i == len(v.parts) {
		return v.End(), nil
	}
	p := &v.parts[i]
	// The first block that begins then or later; some lines of the block before may be as late.
	n := sort.Search(len(p.blocks), func(n int) bool { return p.blocks[n].at >= at })
	number := p.end()
	if n < len(p.blocks) {
		number = p.blocks[n].first
	}
	if n == 0 {
		return number, nil
	}
	err := v.Scan(p.blocks[n-1].first, false, nil, func(c *Chunk) (bool, error) {
		for _, b := range c.Batches {
			if b.At >= at {
				number = b.First
				break
			}
		}
		return false, nil
	})
	return number, err
}

// Find returns up to most lines, in order, of the wanted sources (nil: all) for which keep returns true (nil: all):
// the first ones from a number on, or the last ones before it.
func (v *View) Find(from int64, back bool, most int, wanted func(*Entry) bool, keep func(*Line) bool) ([]Line, error) {
	var found []Line
	if back {
		from--
	}
	err := v.Scan(from, back, wanted, func(c *Chunk) (bool, error) {
		var here []Line
		for i := range c.Batches {
			b := &c.Batches[i]
			if wanted != nil && !wanted(b.Entry) {
				continue
			}
			more := b.Each(func(n int64, text, _ []byte) bool {
				if back && n > from || !back && n < from {
					return !back
				}
				l := Line{Number: n, At: time.Unix(0, b.At), Text: string(text), Entry: *b.Entry}
				if keep == nil || keep(&l) {
					here = append(here, l)
				}
				return back || len(found)+len(here) < most
			})
			if !more {
				break
			}
		}
		if !back {
			found = append(found, here...)
			return len(found) < most, nil
		}
		found = append(here[max(len(here)+len(found)-most, 0):len(here):len(here)], found...)
		return len(found) < most, nil
	})
	return found, err
}
