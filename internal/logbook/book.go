// Package logbook keeps every line that the processes of a session write, on
// disk, and reads back any window of them, all units together or one alone, in
// time that does not depend on how many there are.
//
// # Format
//
// A book is a folder with these files, all append-only:
//
//	lines.log   the text of every line, ended by "\n", in order
//	index       one record of 32 bytes for each line
//	unit-N      for each unit, the numbers of its lines, 8 bytes each
//	units       the units' names, one a line; N is the position from 0
//
// Numbers are little-endian. An index record is: offset of the text (8 bytes),
// time in nanoseconds since 1970 (8), length of the text (4), run (4), unit (2),
// stream (1), tone (1), and 4 bytes of zeros.
package logbook

import (
	"encoding/binary"
	"fmt"
	"omnivigil/internal/regular"
	"os"
	"path/filepath"
	"sort"
	"sync"
	"time"
)

// Stream says what a line is.
type Stream uint8

const (
	Output Stream = iota // written by a process
	Opens                // Omnivigil's note that a run begins
	Ends                 // and that it has ended
	Note                 // anything else that Omnivigil has to say
)

// Tone is the meaning that a line has for the person, as far as Omnivigil knows.
type Tone uint8

const (
	Neutral Tone = iota
	Current
	Moving
	Stale
	Broken
)

// Entry is what Append writes beside the texts.
type Entry struct {
	Unit   string // "" where Omnivigil speaks of the whole project
	Run    int
	Stream Stream
	Tone   Tone
}

// Line is one line of the book.
type Line struct {
	Number int64 // in the book, from 0
	At     time.Time
	Text   string // without its end; may hold colour sequences
	Entry
}

const (
	recordSize = 32
	numberSize = 8
)

// Book is an open logbook. Its methods may be called from any goroutine. When the disk
// refuses writes, the book says so through Err, keeps lines in memory, up to a limit,
// and writes them when there is room again. Lines beyond the limit are lost; the book
// says how many when it can be written again.
type Book struct {
	dir   string
	clock func() time.Time

	mu      sync.Mutex
	lines   *column
	index   *column
	units   *column
	names   []string
	ids     map[string]int
	perUnit []*column
	last    time.Time
	err     error     // why nothing can be written at the moment
	retry   time.Time // when to try again
	lost    int       // lines that had no room since then
	grown   map[chan struct{}]bool
}

// mostKept is how many bytes of what cannot be written are kept in memory.
const mostKept = 32 << 20

// retryPause is how long a disk that refused is left alone.
const retryPause = time.Second

// Open makes a new book in the folder dir, which must not hold one. Where that cannot
// be made, or not be written to, the book keeps lines in memory: see Err.
func Open(dir string) *Book {
	b := &Book{dir: dir, clock: time.Now, ids: map[string]int{}, grown: map[chan struct{}]bool{}}
	b.lines, b.index, b.units = b.column("lines.log"), b.column("index"), b.column("units")
	b.mu.Lock()
	defer b.mu.Unlock()
	b.flush()
	return b
}

func (b *Book) column(name string) *column { return &column{path: filepath.Join(b.dir, name)} }

// Dir returns the book's folder.
func (b *Book) Dir() string { return b.dir }

// Append writes lines at the present time.
func (b *Book) Append(e Entry, texts ...string) {
	if len(texts) == 0 {
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	// Windows are found by time, so time must not go back when the clock does.
	if now := b.clock(); now.After(b.last) {
		b.last = now
	}
	b.recover()
	for _, text := range texts {
		b.append(e, text)
	}
	for c := range b.grown {
		select {
		case c <- struct{}{}:
		default:
		}
	}
}

func (b *Book) append(e Entry, text string) {
	if b.err != nil && b.kept() > mostKept {
		b.lost++
		return
	}
	id := b.unit(e.Unit)
	var record [recordSize]byte
	binary.LittleEndian.PutUint64(record[0:], uint64(b.lines.size()))
	binary.LittleEndian.PutUint64(record[8:], uint64(b.last.UnixNano()))
	binary.LittleEndian.PutUint32(record[16:], uint32(len(text)))
	binary.LittleEndian.PutUint32(record[20:], uint32(e.Run))
	binary.LittleEndian.PutUint16(record[24:], uint16(id))
	record[26], record[27] = byte(e.Stream), byte(e.Tone)
	var number [numberSize]byte
	binary.LittleEndian.PutUint64(number[:], uint64(b.index.size()/recordSize))

	b.lines.add([]byte(text))
	b.lines.add([]byte{'\n'})
	b.perUnit[id].add(number[:])
	b.index.add(record[:])
	if b.err == nil && b.lines.isFull() {
		b.flush()
	}
}

// unit returns the number that stands for a unit's name.
func (b *Book) unit(name string) int {
	if id, ok := b.ids[name]; ok {
		return id
	}
	id := len(b.names)
	b.units.add([]byte(name + "\n"))
	b.ids[name], b.names, b.perUnit = id, append(b.names, name), append(b.perUnit, b.column(fmt.Sprintf("unit-%d", id)))
	return id
}

func (b *Book) columns() []*column { return append([]*column{b.lines, b.index, b.units}, b.perUnit...) }

// kept is how many bytes have not been written.
func (b *Book) kept() int {
	n := 0
	for _, c := range b.columns() {
		n += len(c.tail)
	}
	return n
}

// flush writes what is in memory. It leaves alone a disk that has just refused.
func (b *Book) flush() {
	if b.err != nil && b.clock().Before(b.retry) {
		return
	}
	if b.err == nil && b.lines.file != nil && b.kept() == 0 {
		return
	}
	err := os.MkdirAll(b.dir, 0o700)
	for _, c := range b.columns() {
		if err == nil {
			err = c.flush()
		}
	}
	if b.err = err; err != nil {
		b.retry = b.clock().Add(retryPause)
	}
}

// recover tries whether a disk that refused takes lines again.
func (b *Book) recover() {
	if b.err == nil {
		return
	}
	if b.flush(); b.err == nil && b.lost > 0 {
		n := b.lost
		b.lost = 0
		b.append(Entry{Stream: Note, Tone: Broken}, fmt.Sprintf("the log can be written again; %d lines had no room and are lost", n))
	}
}

// Err returns why the log cannot be written at the moment, or nil.
func (b *Book) Err() error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.err == nil {
		return nil
	}
	return fmt.Errorf("the log cannot be written, output is kept in memory: %w", regular.Reason(b.err))
}

// Grown returns a channel that has a value whenever lines have come since it was
// last received from, and a function that ends this.
func (b *Book) Grown() (<-chan struct{}, func()) {
	c := make(chan struct{}, 1)
	b.mu.Lock()
	b.grown[c] = true
	b.mu.Unlock()
	return c, func() {
		b.mu.Lock()
		delete(b.grown, c)
		b.mu.Unlock()
	}
}

// All stands for the lines of all units together.
const All = "*"

// Len returns how many lines a unit, or All, has.
func (b *Book) Len(unit string) int64 {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.length(unit)
}

func (b *Book) length(unit string) int64 {
	if unit == All {
		return b.index.size() / recordSize
	}
	if id, ok := b.ids[unit]; ok {
		return b.perUnit[id].size() / numberSize
	}
	return 0
}

// Window returns up to n lines of a unit, or of All, beginning with the one at
// position from among them.
func (b *Book) Window(unit string, from int64, n int) ([]Line, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.err == nil {
		b.flush() // whoever looks at the files sees what is on the screen
	}
	from = max(from, 0)
	n = int(min(int64(n), b.length(unit)-from))
	if n <= 0 {
		return nil, nil
	}
	lines := make([]Line, 0, n)
	if unit == All {
		raw := make([]byte, n*recordSize)
		if err := b.index.readAt(raw, from*recordSize); err != nil {
			return nil, err
		}
		for i := range n {
			line, err := b.line(from+int64(i), raw[i*recordSize:])
			if err != nil {
				return nil, err
			}
			lines = append(lines, line)
		}
		return lines, nil
	}
	raw := make([]byte, n*numberSize)
	if err := b.perUnit[b.ids[unit]].readAt(raw, from*numberSize); err != nil {
		return nil, err
	}
	record := make([]byte, recordSize)
	for i := range n {
		number := int64(binary.LittleEndian.Uint64(raw[i*numberSize:]))
		if err := b.index.readAt(record, number*recordSize); err != nil {
			return nil, err
		}
		line, err := b.line(number, record)
		if err != nil {
			return nil, err
		}
		lines = append(lines, line)
	}
	return lines, nil
}

func (b *Book) line(number int64, record []byte) (Line, error) {
	text := make([]byte, binary.LittleEndian.Uint32(record[16:]))
	if err := b.lines.readAt(text, int64(binary.LittleEndian.Uint64(record[0:]))); err != nil {
		return Line{}, err
	}
	return Line{
		Number: number,
		At:     time.Unix(0, int64(binary.LittleEndian.Uint64(record[8:]))),
		Text:   string(text),
		Entry: Entry{
			Run:    int(binary.LittleEndian.Uint32(record[20:])),
			Unit:   b.names[binary.LittleEndian.Uint16(record[24:])],
			Stream: Stream(record[26]),
			Tone:   Tone(record[27]),
		},
	}, nil
}

// Position returns where, among the lines of a unit or of All, the first stands
// that was written at t or later.
func (b *Book) Position(unit string, t time.Time) (int64, error) {
	var failed error
	n := b.Len(unit)
	at := sort.Search(int(n), func(i int) bool {
		lines, err := b.Window(unit, int64(i), 1)
		if err != nil || len(lines) == 0 {
			failed = err
			return true
		}
		return !lines[0].At.Before(t)
	})
	return int64(at), failed
}

// Close writes what is left and closes the files. It returns the first error.
func (b *Book) Close() error {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.retry = time.Time{}
	b.flush()
	first := b.err
	for _, c := range b.columns() {
		if err := c.close(); err != nil && first == nil {
			first = err
		}
	}
	return first
}

// SetClock replaces the clock that lines are dated by, for tests and replays. It
// must be called before the first Append.
func (b *Book) SetClock(now func() time.Time) { b.clock = now }
