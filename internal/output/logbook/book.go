package logbook

import (
	"bytes"
	"errors"
	"fmt"
	"iter"
	"os"
	"sync"
	"time"

	"omnivigil/internal/files"
)

// Options are how a book is written.
type Options struct {
	Width  int    // of the column of names in the text; at least that of Self
	Limits Limits // of all logs in the parent directory
}

// Book is a log that is being written. Its methods may be called from any goroutine.
//
// Lines are gathered for a moment and written in the background. If the disk is too slow, Append of output waits for
// it. If the disk refuses writes, Err returns the reason, and the book keeps lines in memory, up to a limit, and
// writes them when there is space again. Lines beyond the limit are lost; their number is reported in the log.
type Book struct {
	dir   string
	width int
	clock func() time.Time

	mu       sync.Mutex
	room     sync.Cond // for what waits for the disk, or for a flush
	segments []*segment
	spare    spareBuffers
	last     time.Time
	limits   Limits
	closed   bool
	grown    map[chan struct{}]bool
	disk

	work  chan struct{} // there is something to write
	much  chan struct{} // there is enough for a write
	stop  chan struct{} // closed by Close
	ended chan struct{} // and by the writer
}

// disk is the progress of the writer, and what hinders it. Book.mu guards it.
type disk struct {
	behind    int       // bytes that are not on disk
	published int64     // the number of the line after the last one that is written, or cannot be
	passes    int       // completed passes of the writer
	waiting   int       // calls of Append that are waiting for the disk
	waited    time.Time // since when there have been some, except for idle moments
	err       error     // why nothing can be written now
	lost      int       // lines that did not fit in memory since then
	unchecked bool      // the directory is to be checked
}

const (
	maxKept    = 32 << 20             // bytes that cannot be written and are kept in memory
	maxBehind  = 8 << 20              // bytes that a slow disk may be behind
	worthWrite = 128 << 10            // bytes for which a write is worth it
	segmentMax = 64 << 20             // maximum bytes of a segment's text, and of the smallest segment's:
	segmentMin = 256 << 10            //
	segmentPer = 32                   // segments within the limit
	gathering  = 4 * time.Millisecond // how long lines are gathered
	retryPause = time.Second          // pause after a write was refused
	slowAfter  = time.Second          // how long a disk must be behind to count as slow
)

// Open begins a new log in the directory dir, which must not have one. If the directory cannot be created or written
// to, the book keeps lines in memory: see Err.
func Open(dir string, o Options) *Book {
	b := &Book{
		dir:    dir,
		width:  max(o.Width, len(Self)),
		limits: o.Limits,
		clock:  time.Now,
		grown:  map[chan struct{}]bool{},
		work:   make(chan struct{}, 1),
		much:   make(chan struct{}, 1),
		stop:   make(chan struct{}),
		ended:  make(chan struct{}),
	}
	b.room.L = &b.mu
	b.err = os.MkdirAll(dir, 0o700)
	go b.keep()
	return b
}

// Dir returns the book's directory.
func (b *Book) Dir() string { return b.dir }

// SetClock replaces the clock, for tests and replays. It must be called before the first Append.
func (b *Book) SetClock(now func() time.Time) { b.clock = now }

// Append writes lines with the current time.
func (b *Book) Append(e Entry, texts ...string) {
	if len(texts) > 0 {
		b.write(e, len(texts), textLines(texts))
	}
}

// AppendBlock writes lines of a terminal's process with the current time, each with its line end, which may have
// carriage returns before it. They must be ready to be shown: see Scanner.ScanBlock.
func (b *Book) AppendBlock(e Entry, block []byte) {
	if len(block) > 0 {
		b.write(e, bytes.Count(block, []byte{'\n'}), blockLines(block))
	}
}

func textLines(texts []string) iter.Seq[[]byte] {
	return func(yield func([]byte) bool) {
		for _, text := range texts {
			if !yield([]byte(text)) {
				return
			}
		}
	}
}

func blockLines(block []byte) iter.Seq[[]byte] {
	return func(yield func([]byte) bool) {
		for len(block) > 0 {
			end := bytes.IndexByte(block, '\n')
			if !yield(block[:end]) {
				return
			}
			block = block[end+1:]
		}
	}
}

func (b *Book) write(e Entry, n int, lines iter.Seq[[]byte]) {
	b.mu.Lock()
	defer b.mu.Unlock()
	// The loop never waits for output.
	for e.Stream == Output && b.err == nil && b.behind > maxBehind && !b.closed {
		if b.waiting++; b.waiting == 1 && b.waited.IsZero() {
			b.waited = time.Now()
		}
		b.room.Wait()
		b.waiting--
	}
	b.append(e, n, lines)
}

// say writes an event of Omnivigil. The caller holds the lock.
func (b *Book) say(tone Tone, text string) {
	b.append(Entry{Stream: Note, Tone: tone}, 1, textLines([]string{text}))
}

func (b *Book) append(e Entry, n int, lines iter.Seq[[]byte]) {
	if b.err != nil && b.behind > maxKept {
		b.lost += n
		return
	}
	// Windows are found by time, so time must not go back when the clock is set back.
	if now := b.clock(); now.After(b.last) {
		b.last = now
	}
	before := b.behind
	to := b.segment()
	b.behind += to.append(e, b.last, b.width, lines)
	if before == 0 {
		signal(b.work)
	}
	if before < worthWrite && b.behind >= worthWrite {
		signal(b.much)
	}
	if b.err != nil {
		b.publish(to.end())
	}
}

// publish makes lines up to a number readable for others.
func (b *Book) publish(end int64) {
	b.published = end
	for c := range b.grown {
		signal(c)
	}
}

// signal sends a value to a channel with room for one.
func signal(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}

// segment returns the segment that lines are appended to.
func (b *Book) segment() *segment {
	if n := len(b.segments); n > 0 {
		if s := b.segments[n-1]; b.last.Before(s.midnight) && s.index.text < b.limits.segment() {
			return s
		}
	}
	next, number := int64(0), 1
	if n := len(b.segments); n > 0 {
		next, number = b.segments[n-1].end(), b.segments[n-1].number+1
	}
	s := newSegment(b.dir, number, next, b.last, &b.spare)
	b.behind += headerSize
	b.segments = append(b.segments, s)
	return s
}

// Check makes the book check whether its directory still exists, and create it again if not. It returns at once; the
// result is in the log.
func (b *Book) Check() {
	b.mu.Lock()
	b.unchecked = true
	b.mu.Unlock()
	signal(b.work)
	signal(b.much)
}

// check creates the newest segment's files again if they were removed. Removed segments before it are lost with their
// lines. Only the writer calls it.
func (b *Book) check() {
	b.mu.Lock()
	segments := b.segments
	due := b.unchecked && len(segments) > 0
	b.unchecked = false
	b.mu.Unlock()
	if !due {
		return
	}
	restored, err := segments[len(segments)-1].restore()
	switch {
	case err != nil:
		b.mu.Lock()
		b.err = err
		b.mu.Unlock()
	case restored:
		lost := int64(0)
		for _, s := range segments[:len(segments)-1] {
			if _, err := os.Lstat(s.path + textEnding); err != nil && b.forget(s.path) {
				lost = s.end()
			}
		}
		text := "the log directory " + b.dir + " was removed and has been recreated"
		if lost > 0 {
			text += fmt.Sprintf("; the first %d lines are lost", lost)
		}
		b.mu.Lock()
		b.say(Broken, text)
		b.mu.Unlock()
	}
}

// keep writes what is appended until the book is closed.
func (b *Book) keep() {
	defer close(b.ended)
	retry := time.NewTimer(0)
	retry.Stop()
	swept := time.Time{}
	for {
		select {
		case <-b.work:
		case <-retry.C:
		case <-b.stop:
			b.flush()
			return
		}
		b.check()
		b.flush()
		if b.seal() || time.Since(swept) > sweepPause {
			swept = time.Now()
			b.sweep()
		}
		b.mu.Lock()
		refused, idle := b.err != nil, b.behind == 0
		b.mu.Unlock()
		if refused {
			retry.Reset(retryPause)
			continue
		}
		if !idle {
			signal(b.work)
		}
		b.gather()
	}
}

// gather waits a moment for more lines.
func (b *Book) gather() {
	moment := time.NewTimer(gathering)
	defer moment.Stop()
	select {
	case <-b.much:
	case <-b.stop:
	case <-moment.C:
	}
}

// flush writes what is in memory, as far as the disk accepts it.
func (b *Book) flush() {
	b.mu.Lock()
	end := int64(0)
	type job struct {
		segment *segment
		buffers []*buffer
		written int
	}
	var jobs []*job
	for _, s := range b.segments {
		end = s.end()
		if cut := s.cut(); len(cut) > 0 {
			jobs = append(jobs, &job{segment: s, buffers: cut})
		}
	}
	b.mu.Unlock()

	var err error
	for _, j := range jobs {
		if err == nil {
			j.written, err = j.segment.write(j.buffers)
		}
	}

	b.mu.Lock()
	defer b.mu.Unlock()
	for _, j := range jobs {
		b.behind -= j.segment.drop(j.written)
	}
	b.err = err
	if b.passes++; b.behind < maxBehind/2 {
		b.waited = time.Time{}
	}
	if err == nil && b.lost > 0 {
		n := b.lost
		b.lost = 0
		b.say(Broken, fmt.Sprintf("the log can be written again; %d lines had no room and are lost", n))
	}
	b.publish(end)
	b.room.Broadcast()
}

// seal closes the files of complete segments, and reports whether there were any.
func (b *Book) seal() (sealed bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, s := range b.segments[:max(len(b.segments)-1, 0)] {
		if len(s.buffers) == 0 && s.close() {
			sealed = true
		}
	}
	return sealed
}

// Flush returns when everything appended before is written, or cannot be.
func (b *Book) Flush() {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.closed {
		return
	}
	// One that continues may have begun before.
	for until := b.passes + 2; b.passes < until && b.behind > 0 && !b.closed; {
		signal(b.work)
		signal(b.much)
		b.room.Wait()
	}
}

// ErrSlow: the disk accepts lines more slowly than they are written.
var ErrSlow = errors.New("the disk cannot keep up with the output: processes wait for it")

// Err returns why the log cannot be written now, or nil.
func (b *Book) Err() error {
	b.mu.Lock()
	defer b.mu.Unlock()
	switch {
	case b.err != nil:
		return fmt.Errorf("the log cannot be written, output is kept in memory: %w", files.Reason(b.err))
	case !b.waited.IsZero() && time.Since(b.waited) > slowAfter:
		return ErrSlow
	}
	return nil
}

// Grown returns a channel that has a value whenever lines have been published since the last receive, and a function
// that ends this.
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

// Published returns the number of the line after the last one that others can read: it is on disk, or the disk
// refuses it.
func (b *Book) Published() int64 {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.published
}

// View returns the current log, including what is not yet on disk.
func (b *Book) View() (*View, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	v := &View{parts: make([]part, 0, len(b.segments))}
	for _, s := range b.segments {
		v.parts = append(v.parts, s.view())
	}
	return v, nil
}

// SetLimits replaces the limits.
func (b *Book) SetLimits(l Limits) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.limits = l
}

// Close writes the rest and closes the files. It returns why something could not be written.
func (b *Book) Close() error {
	b.mu.Lock()
	if b.closed {
		b.mu.Unlock()
		return b.Err()
	}
	b.closed = true
	b.room.Broadcast()
	close(b.stop)
	b.mu.Unlock()
	<-b.ended
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, s := range b.segments {
		s.close()
	}
	return b.err
}
