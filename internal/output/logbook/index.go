package logbook

import (
	"bytes"
	"encoding/binary"
	"errors"
	"slices"
	"sort"
)

// magic is the beginning of every index.
const magic = "ovlog 2\n"

// headerSize is the number of bytes before the first record of an index.
const headerSize = len(magic) + 16

// Tags: the first numbers of records.
const (
	tagSource = 1
	tagBatch  = 2 // plus the source's id
)

// continuesBit marks the stream of lines that continue the previous one.
const continuesBit = 0x80

// blockSize is how many bytes of text are indexed together.
const blockSize = 64 << 10

// source is what the lines of a batch have in common.
type source struct {
	Entry
	head int // bytes of each line before its text
}

// block is consecutive batches: the unit of searching and reading.
type block struct {
	first   int64    // the number of its first line
	lines   int64    //
	text    int64    // the size of its text
	size    int64    // the offset of its first record in the index
	records int64    // the size of its records
	length  int64    // the time that its first record counts from
	before  int64    // the moment that its first record's is counted from
	at      int64    // when its first line was written
	sources []uint32 // of its lines; sorted
}

func (b *block) end() int64 { return b.first + b.lines }

// index is what is known of a segment, without the text.
type index struct {
	first   int64 // the number of the first line
	sources []source
	blocks  []block
	shared  bool // frozen copies have the same last block
	lines   int64
	text    int64 // bytes of the text with records
	taken   int64 // bytes of the index
	last    int64 // when the newest line was written
}

func (x *index) end() int64 { return x.first + x.lines }

// header returns the beginning of an index.
func header(first, at int64) []byte {
	h := binary.LittleEndian.AppendUint64([]byte(magic), uint64(first))
	return binary.LittleEndian.AppendUint64(h, uint64(at))
}

func appendSource(to []byte, s source) []byte {
	from := len(to)
	var p []byte
	p = binary.AppendUvarint(p, uint64(s.Run))
	p = binary.AppendUvarint(p, uint64(s.Ripple))
	stream := byte(s.Stream)
	if s.Continues {
		stream |= continuesBit
	}
	p = append(p, stream, byte(s.Tone))
	p = binary.AppendUvarint(p, uint64(s.head))
	p = append(p, s.Unit...)
	to = binary.AppendUvarint(to, tagSource)
	to = binary.AppendUvarint(to, uint64(len(p)))
	to = append(to, p...)
	return append(to, check(to[from:]))
}

func appendBatch(to []byte, id int, later int64, lines, size int) []byte {
	from := len(to)
	to = binary.AppendUvarint(to, uint64(id+tagBatch))
	to = binary.AppendUvarint(to, uint64(later))
	to = binary.AppendUvarint(to, uint64(lines))
	to = binary.AppendUvarint(to, uint64(size))
	return append(to, check(to[from:]))
}

// check returns the byte that ends a record.
func check(record []byte) byte {
	sum := byte(0)
	for _, b := range record {
		sum += b
	}
	return sum | 0x80
}

// record is one record of an index.
type record struct {
	source      *source // nil: it is a batch
	id          int
	later       int64
	lines, size int64
	length      int // of the record, in bytes
}

var errTorn = errors.New("the index has no whole record here")

// numbers reads varints until one is incomplete.
type numbers struct {
	rest []byte
	bad  bool
}

func (r *numbers) next() int64 {
	n, size := binary.Uvarint(r.rest)
	if size <= 0 || n > 1<<62 {
		r.bad = true
		return 0
	}
	r.rest = r.rest[size:]
	return int64(n)
}

// readRecord reads the record at the beginning of p.
func readRecord(p []byte) (record, error) {
	r := numbers{rest: p}
	var rec record
	switch tag := r.next(); {
	case r.bad || tag == 0:
		return record{}, errTorn
	case tag == tagSource:
		length := r.next()
		if r.bad || int64(len(r.rest)) < length {
			return record{}, errTorn
		}
		if rec.source = readSource(r.rest[:length]); rec.source == nil {
			return record{}, errTorn
		}
		r.rest = r.rest[length:]
	default:
		rec = record{id: int(tag - tagBatch), later: r.next(), lines: r.next(), size: r.next()}
		if r.bad || rec.lines <= 0 || rec.size < rec.lines-1 {
			return record{}, errTorn
		}
	}
	if rec.length = len(p) - len(r.rest); len(r.rest) == 0 || r.rest[0] != check(p[:rec.length]) {
		return record{}, errTorn
	}
	rec.length++
	return rec, nil
}

// readSource reads the contents of a source's record; nil: they are invalid.
func readSource(p []byte) *source {
	r := numbers{rest: p}
	var s source
	s.Run, s.Ripple = int(r.next()), int(r.next())
	if len(r.rest) < 2 {
		return nil
	}
	s.Stream, s.Continues, s.Tone = Stream(r.rest[0]&^continuesBit), r.rest[0]&continuesBit != 0, Tone(r.rest[1])
	r.rest = r.rest[2:]
	s.head = int(r.next())
	s.Unit = string(r.rest)
	if r.bad {
		return nil
	}
	return &s
}

// begin reads a header.
func (x *index) begin(p []byte) error {
	if len(p) < headerSize || !bytes.HasPrefix(p, []byte(magic)) {
		return errTorn
	}
	x.first = int64(binary.LittleEndian.Uint64(p[len(magic):]))
	x.last = int64(binary.LittleEndian.Uint64(p[len(magic)+8:]))
	x.taken = int64(headerSize)
	if x.first < 0 {
		return errTorn
	}
	return nil
}

// take reads the complete records at the beginning of p, as far as their text exists.
func (x *index) take(p []byte, text int64) {
	for len(p) > 0 {
		r, err := readRecord(p)
		if err != nil || r.source == nil && (r.id >= len(x.sources) || x.text+r.size > text) {
			return
		}
		p = p[r.length:]
		if r.source != nil {
			x.sources = append(x.sources, *r.source)
			x.taken += int64(r.length)
			continue
		}
		x.batch(r)
	}
}

// batch adds a batch.
func (x *index) batch(r record) {
	var b *block
	if n := len(x.blocks); n > 0 && x.blocks[n-1].size < blockSize {
		if x.shared {
			x.blocks = append(x.blocks[:n-1:n-1], x.blocks[n-1])
			x.shared = false
		}
		b = &x.blocks[n-1]
	} else {
		x.blocks = append(
			x.blocks,
			block{first: x.end(), text: x.text, records: x.taken, before: x.last, at: x.last + r.later},
		)
		x.shared = false
		b = &x.blocks[n]
	}
	id := uint32(r.id)
	if at, has := slices.BinarySearch(b.sources, id); !has {
		// A new slice, because views share the old one.
		b.sources = slices.Concat(b.sources[:at:at], []uint32{id}, b.sources[at:])
	}
	b.lines, b.size, b.length = b.lines+r.lines, b.size+r.size, x.taken+int64(r.length)-b.records
	x.lines, x.text, x.taken, x.last = x.lines+r.lines, x.text+r.size, x.taken+int64(r.length), x.last+r.later
}

// frozen returns a copy of the index that does not change any more. All but the last block are never changed again, and
// that one is copied when it is.
func (x *index) frozen() index {
	x.shared = true
	out := *x
	out.blocks = slices.Clip(out.blocks)
	return out
}

// find returns the index of the block with a line.
func (x *index) find(number int64) int {
	return sort.Search(len(x.blocks), func(i int) bool { return x.blocks[i].end() > number })
}
