package reader

import (
	"bytes"

	"github.com/charmbracelet/x/ansi"

	"omnivigil/internal/output/logbook"
	"omnivigil/internal/output/query"
	"omnivigil/internal/output/stacktrace"
)

// piece is a line of a chunk, with what is seen of it.
type piece struct {
	batch  *logbook.Batch
	number int64
	text   []byte // as written
	seen   []byte
	block  int // the first line of the trace that it is of, or itself
}

// blocks visits the lines of a chunk that terms let through, with all of each stack trace one
// line of which a positive term has, and none of those that a negative one has. A trace that
// a chunk's end cuts counts as two.
func (s *scan) blocks(c *logbook.Chunk, take func(b *logbook.Batch, number int64, text []byte) bool) bool {
	if s.likely != nil && bytes.IndexByte(c.Text, 0x1b) < 0 {
		if s.likely.Prepare(c.Text); s.likely.Likely(c.Text, 0) < 0 {
			return true
		}
	}
	pieces := s.pieces(c)
	members := map[int][]int{} // the lines of blocks that have more than one, by the first
	for i, p := range pieces {
		if p.block != i {
			if members[p.block] == nil {
				members[p.block] = []int{p.block}
			}
			members[p.block] = append(members[p.block], i)
		}
	}
	known := map[int]bool{} // whether such a block is let through
	for i, p := range pieces {
		is := false
		if of := members[p.block]; of == nil {
			is = s.let([]piece{p})
		} else if known, has := known[p.block]; has {
			is = known
		} else {
			var lines []piece
			for _, k := range of {
				lines = append(lines, pieces[k])
			}
			is = s.let(lines)
		}
		if members[p.block] != nil {
			known[p.block] = is
		}
		if is && !take(pieces[i].batch, p.number, p.text) {
			return false
		}
	}
	return true
}

// pieces returns the lines of wanted sources, and which of them belong together.
func (s *scan) pieces(c *logbook.Chunk) []piece {
	type run struct {
		unit   string
		number int
	}
	type state struct {
		reader stacktrace.Reader
		block  int
	}
	states := map[run]*state{}
	var pieces []piece
	for i := range c.Batches {
		b := &c.Batches[i]
		if !s.wants(b.Entry) {
			continue
		}
		key := run{b.Unit, b.Run}
		st := states[key]
		if st == nil {
			st = &state{block: -1}
			states[key] = st
		}
		b.Each(func(number int64, text, _ []byte) bool {
			p := piece{b, number, text, visibleOf(text), len(pieces)}
			if b.Stream == logbook.Output {
				if st.reader.Continues(string(p.seen)) && st.block >= 0 {
					p.block = st.block
				}
				st.block = p.block
			}
			pieces = append(pieces, p)
			return true
		})
	}
	return pieces
}

// visibleOf returns what is seen of a line.
func visibleOf(text []byte) []byte {
	if bytes.IndexByte(text, 0x1b) < 0 {
		return text
	}
	return []byte(ansi.Strip(string(text)))
}

// let reports whether lines that belong together are let through.
func (t *terms) let(lines []piece) bool {
	for _, term := range t.texts {
		has := false
		for _, l := range lines {
			has = has || term.Match(l.seen)
		}
		if has == term.not {
			return false
		}
	}
	if len(t.levels) == 0 {
		return true
	}
	level := query.NoLevel
	for _, l := range lines {
		level = max(level, levelOf(l.batch.Entry, l.seen))
	}
	return t.meetsLevel(level)
}
