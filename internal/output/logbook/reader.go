package logbook

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"
)

// Reader reads a log that another process writes, or the log of an earlier session. Its methods may be called from
// any goroutine.
type Reader struct {
	dir  string
	over bool

	mu       sync.Mutex
	segments []*readSegment
}

// readSegment is a segment, as far as it was read.
type readSegment struct {
	part
	whole bool // it is complete
}

// Read returns a reader of the log in a directory. Over: its session has ended, so an incomplete end is repaired as
// far as possible, only for this reader.
func Read(dir string, over bool) *Reader { return &Reader{dir: dir, over: over} }

// View returns what has been published so far.
func (r *Reader) View() (*View, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	entries, err := os.ReadDir(r.dir)
	if err != nil {
		return nil, fmt.Errorf("read the log: %w", err)
	}
	var paths []string
	for _, e := range entries {
		if name, is := strings.CutSuffix(e.Name(), indexEnding); is {
			paths = append(paths, filepath.Join(r.dir, name))
		}
	}
	var segments []*readSegment
	for i, path := range paths {
		s := r.known(path)
		if err := s.more(); errors.Is(err, fs.ErrNotExist) {
			continue
		} else if err != nil {
			return nil, err
		}
		s.whole = i < len(paths)-1
		segments = append(segments, s)
	}
	r.segments = segments
	v := &View{}
	for _, s := range segments {
		if s.taken == 0 {
			break // its header is incomplete
		}
		v.parts = append(v.parts, part{index: s.frozen(), path: s.path, texts: s.texts, codes: s.codes})
	}
	if r.over {
		return v, v.repair()
	}
	return v, nil
}

func (r *Reader) known(path string) *readSegment {
	for _, s := range r.segments {
		if s.path == path {
			return s
		}
	}
	return &readSegment{part: part{path: path}}
}

// more reads what was added to the segment.
func (s *readSegment) more() error {
	if s.whole {
		return nil
	}
	f, err := os.Open(s.path + indexEnding)
	if err != nil {
		return fmt.Errorf("read the log: %w", err)
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil || info.Size() <= s.taken {
		return err
	}
	codes := make([]byte, info.Size()-s.taken)
	n, err := f.ReadAt(codes, s.taken)
	if err != nil && err != io.EOF {
		return fmt.Errorf("read the log: %w", err)
	}
	text, err := os.Stat(s.path + textEnding) // after the index, so that it is long enough
	if err != nil {
		return fmt.Errorf("read the log: %w", err)
	}
	codes = codes[:n]
	if s.taken == 0 {
		if s.begin(codes) != nil {
			return nil
		}
		codes = codes[headerSize:]
	}
	s.take(codes, text.Size())
	return nil
}

// repair adds the lines at the end of the text that have no record.
func (v *View) repair() error {
	if len(v.parts) == 0 {
		return nil
	}
	p := &v.parts[len(v.parts)-1]
	data, err := os.ReadFile(p.path + textEnding)
	if err != nil {
		return fmt.Errorf("read the log: %w", err)
	}
	if int64(len(data)) <= p.text {
		return nil
	}
	// After a crash of the machine the rest of a file may be zeros.
	rest := bytes.TrimRight(data[p.text:], "\x00")
	at := p.taken
	var codes []byte
	for len(rest) > 0 {
		line, after, ended := bytes.Cut(rest, []byte("\n"))
		size := len(line)
		if ended {
			size++
		}
		s := sourceOf(line)
		codes = appendSource(codes, s)
		codes = appendBatch(codes, len(p.sources), 0, 1, size)
		p.take(codes[p.taken-at:], math.MaxInt64)
		rest = after
	}
	p.codes = append(p.codes, span{at, codes})
	return nil
}

// sourceOf returns the source of a line from its beginning.
func sourceOf(line []byte) source {
	if len(line) < len(clockForm) {
		return source{}
	}
	if _, err := time.Parse(clockForm, string(line[:len(clockForm)])); err != nil {
		return source{}
	}
	name, rest, ok := bytes.Cut(line[len(clockForm):], []byte(" "))
	if !ok {
		return source{}
	}
	s := source{Entry: Entry{Unit: string(name)}, head: len(line) - len(bytes.TrimLeft(rest, " "))}
	if s.Unit == Self {
		s.Unit, s.Stream = "", Note
	}
	return s
}
