package reader

import (
	"bytes"

	"omnivigil/internal/output/logbook"
	"omnivigil/internal/output/query"
	"omnivigil/internal/output/stacktrace"
	"omnivigil/internal/text/escape"
)

// piece is a line of a chunk with its visible text.
type piece struct {
	batch  *logbook.Batch
	number int64
	text   []byte // as written
	seen   []byte
	block  int // the index of the first line of its stack trace, or its own
}

// blocks visits the lines of a chunk that match terms: a whole stack trace if one of its lines matches a positive
// term, and none of it if one matches a negative one. A trace across the end of a chunk counts as two.
func (s *scan) blocks(c *logbook.Chunk, take func(b *logbook.Batch, number int64, text []byte) bool) bool {
	if s.likely != nil && bytes.IndexByte(c.Text, 0x1b) < 0 {
		if s.likely.Prepare(c.Text); s.likely.Likely(c.Text, 0) < 0 {
			return true
		}
	}
	pieces := s.pieces(c)
	members := map[int][]int{} // the lines of blocks with more than one line, by the first line
	for i, p := range pieces {
		if p.block != i {
			if members[p.block] == nil {
				members[p.block] = []int{p.block}
			}
			members[p.block] = append(members[p.block], i)
		}
	}
	known := map[int]bool{} // whether such a block matches
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

// pieces returns the lines of wanted sources, and which of them form blocks.
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
			text, prints := s.printed(b.Entry, text)
			if !prints {
				return true
			}
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

// visibleOf returns the visible text of a line.
func visibleOf(text []byte) []byte {
	if bytes.IndexByte(text, 0x1b) < 0 {
		return text
	}
	return escape.AppendStripped(nil, text)
}

// let reports whether a block matches.
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
