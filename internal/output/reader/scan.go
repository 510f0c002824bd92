package reader

import (
	"bytes"
	"context"
	"slices"
	"sort"
	"time"

	"omnivigil/internal/output/logbook"
	"omnivigil/internal/output/query"
	"omnivigil/internal/output/structured"
)

// terms are a filter's terms, ready for use.
type terms struct {
	filter query.Filter
	texts  []textTerm // of text
	levels []query.Term
	likely *query.Matcher // of a text that every line must have; nil: there is none
	printer
}

type textTerm struct {
	*query.Matcher
	not bool
}

func compile(f query.Filter) (*terms, error) {
	t := &terms{filter: f}
	for _, term := range f {
		switch term.Field {
		case query.Text:
			if err := t.add(term.Pattern, term.Not); err != nil {
				return nil, err
			}
		case query.AtLeast:
			t.levels = append(t.levels, term)
		}
	}
	return t, nil
}

// add adds a pattern that lines must have, or must not have.
func (t *terms) add(p query.Pattern, not bool) error {
	m, err := p.Compile()
	if err != nil {
		return err
	}
	t.texts = append(t.texts, textTerm{m, not})
	if !not && m.HasLiteral() {
		t.likely = m
	}
	return nil
}

// wants reports whether lines of a source may match.
func (t *terms) wants(e *logbook.Entry) bool {
	o := query.Origin{Unit: e.Unit, Run: e.Run, Ripple: e.Ripple, Broken: e.Tone == logbook.Broken}
	if int(e.Stream) < len(events) {
		o.Event = events[e.Stream]
	}
	return t.filter.Meets(o)
}

var events = [...]query.Event{
	logbook.Output: "",
	logbook.Opens:  query.Start,
	logbook.Ends:   query.End,
	logbook.Note:   query.Note,
}

// all reports whether every line of a wanted source matches.
func (t *terms) all() bool { return len(t.texts) == 0 && len(t.levels) == 0 }

// meets reports whether a line matches.
func (t *terms) meets(e *logbook.Entry, text []byte) bool {
	if t.all() {
		return true
	}
	text = visibleOf(text)
	for _, p := range t.texts {
		if p.Match(text) == p.not {
			return false
		}
	}
	return len(t.levels) == 0 || t.meetsLevel(levelOf(e, text))
}

// levelOf returns the level of a line; for an event, of its tone.
func levelOf(e *logbook.Entry, text []byte) query.Level {
	if e.Stream == logbook.Output {
		return structured.LevelOf(string(text))
	}
	switch e.Tone {
	case logbook.Broken:
		return query.Error
	case logbook.Stale:
		return query.Warning
	}
	return query.Info
}

func (t *terms) meetsLevel(level query.Level) bool {
	return !slices.ContainsFunc(t.levels, func(l query.Term) bool {
		return level == query.NoLevel || (level >= l.Level) == l.Not
	})
}

// scan visits the lines that match terms, from a number on or backwards before it.
type scan struct {
	view *logbook.View
	*terms
	from     int64
	back     bool
	whole    bool                   // stack traces match as a whole
	searched func(lines int64) bool // called after each chunk; false ends the scan
}

// run calls visit with each line until it returns false.
func (s *scan) run(ctx context.Context, visit func(logbook.Line) bool) error {
	return s.each(ctx, func(b *logbook.Batch, number int64, text []byte) bool {
		return visit(logbook.Line{Number: number, At: time.Unix(0, b.At), Text: string(text), Entry: *b.Entry})
	})
}

// each is run without making an api.Line of every line.
func (s *scan) each(ctx context.Context, visit func(b *logbook.Batch, number int64, text []byte) bool) error {
	from := s.from
	if s.back {
		from--
	}
	wanted := s.wants
	if len(s.filter) == 0 {
		wanted = nil
	}
	last := max(s.from, s.view.First())
	return s.view.Scan(from, s.back, wanted, func(c *logbook.Chunk) (bool, error) {
		more := s.chunk(c, from, visit)
		if s.searched != nil {
			done, next := c.End-last, c.End
			if s.back {
				done, next = last-c.First, c.First
			}
			last = next
			more = s.searched(done) && more
		}
		return more, ctx.Err()
	})
}

// chunk visits the lines of one chunk.
func (s *scan) chunk(c *logbook.Chunk, from int64, visit func(b *logbook.Batch, number int64, text []byte) bool) bool {
	take := func(b *logbook.Batch, number int64, text []byte) bool {
		if s.back && number > from || !s.back && number < from {
			return true
		}
		if !s.whole {
			prints := true
			if text, prints = s.printed(b.Entry, text); !prints || !s.meets(b.Entry, text) {
				return true
			}
		}
		return visit(b, number, text)
	}
	if s.back {
		return s.backwards(c, take)
	}
	return s.forwards(c, take)
}

func (s *scan) forwards(c *logbook.Chunk, take func(b *logbook.Batch, number int64, text []byte) bool) bool {
	switch {
	case s.whole:
		return s.blocks(c, take)
	case s.likely != nil && bytes.IndexByte(c.Text, 0x1b) < 0:
		return s.candidates(c, take)
	}
	for i := range c.Batches {
		b := &c.Batches[i]
		if !s.wants(b.Entry) {
			continue
		}
		if !b.Each(func(number int64, text, _ []byte) bool { return take(b, number, text) }) {
			return false
		}
	}
	return true
}

func (s *scan) backwards(c *logbook.Chunk, take func(b *logbook.Batch, number int64, text []byte) bool) bool {
	if s.whole || s.likely != nil { // few lines are candidates
		type place struct {
			batch  *logbook.Batch
			number int64
			text   []byte
		}
		var places []place
		s.forwards(c, func(b *logbook.Batch, number int64, text []byte) bool {
			places = append(places, place{b, number, text})
			return true
		})
		for _, p := range slices.Backward(places) {
			if !take(p.batch, p.number, p.text) {
				return false
			}
		}
		return true
	}
	for i := len(c.Batches) - 1; i >= 0; i-- {
		b := &c.Batches[i]
		if s.wants(b.Entry) && !b.EachBack(func(number int64, text []byte) bool { return take(b, number, text) }) {
			return false
		}
	}
	return true
}

// candidates visits the lines that may have the text searched for.
func (s *scan) candidates(c *logbook.Chunk, take func(b *logbook.Batch, number int64, text []byte) bool) bool {
	s.likely.Prepare(c.Text)
	starts := make([]int, 0, len(c.Batches)) // of batches in the chunk, computed on demand
	counted, number := 0, int64(0)           // the position up to which lines were counted within a batch
	in := -1
	for at := s.likely.Likely(c.Text, 0); at >= 0; at = s.likely.Likely(c.Text, at) {
		if len(starts) == 0 {
			starts = startsOf(c)
		}
		i := sort.SearchInts(starts, at+1) - 1
		b := &c.Batches[i]
		begin := bytes.LastIndexByte(c.Text[starts[i]:at], '\n') + 1 + starts[i]
		end := len(c.Text)
		if n := bytes.IndexByte(c.Text[at:], '\n'); n >= 0 {
			end = at + n
		}
		if at = end + 1; !s.wants(b.Entry) {
			continue
		}
		if i != in {
			in, counted, number = i, starts[i], b.First
		}
		number += int64(bytes.Count(c.Text[counted:begin], []byte{'\n'}))
		counted = begin
		if !take(b, number, b.TextOf(c.Text[begin:end])) {
			return false
		}
		if at > len(c.Text) {
			break
		}
	}
	return true
}

func startsOf(c *logbook.Chunk) []int {
	starts := make([]int, len(c.Batches))
	at := 0
	for i := range c.Batches {
		starts[i] = at
		at += len(c.Batches[i].Text)
	}
	return starts
}
