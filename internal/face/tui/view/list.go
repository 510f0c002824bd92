package view

import (
	"context"
	"slices"

	"omnivigil/internal/api"
)

// List is a list of which the project is asked for no more than what is near the screen. One
// row of it is chosen, and stays that as the list changes.
type List[Row any] struct {
	Fetch func(ctx context.Context, p api.Project, q api.ResultQuery) (rows []Row, total int, err error)
	Same  func(a, b Row) bool

	Query  api.ResultQuery // what is listed, except its part
	At     int             // the chosen row, of all
	rows   []Row           // those that are here
	from   int             // number of the first of these
	Total  int
	asked  pageAsked
	asking bool
	Loaded bool
}

// pageAsked is what was asked for last.
type pageAsked struct {
	version, from int
	text, only    string
	by            string
}

// pageRows is how many rows are asked for at once.
const pageRows = 200

// Ask asks for rows where others are to be shown than are here. Version says which state of the
// project they are of.
func (p *List[Row]) Ask(m *Model, version int) {
	from := p.from
	if p.At < p.from+pageRows/4 || p.At > p.from+pageRows*3/4 {
		from = max(0, p.At-pageRows/2)
	}
	want := pageAsked{version, from, p.Query.Text, p.Query.Only, p.Query.By}
	if p.asking || p.Loaded && want == p.asked {
		return
	}
	p.asking, p.asked = true, want
	q := p.Query
	q.From, q.Count = from, pageRows
	m.Later(func(ctx context.Context) Then {
		rows, total, err := p.Fetch(ctx, m.Project, q)
		return func() {
			if p.asking, p.Loaded = false, true; err != nil {
				m.Notice = err.Error()
				return
			}
			p.take(from, rows, total)
		}
	})
}

// take takes rows that have come. The chosen one is looked for among them.
func (p *List[Row]) take(from int, rows []Row, total int) {
	chosen, was := p.Selected()
	p.from, p.rows, p.Total = from, rows, total
	if was {
		if i := slices.IndexFunc(p.rows, func(r Row) bool { return p.Same(r, chosen) }); i >= 0 {
			p.At = p.from + i
		}
	}
	p.At = max(0, min(p.At, p.Total-1))
}

// Selected returns the selected row, if it is here.
func (p *List[Row]) Selected() (row Row, ok bool) {
	if i := p.At - p.from; i >= 0 && i < len(p.rows) {
		return p.rows[i], true
	}
	return row, false
}

// Move chooses another row.
func (p *List[Row]) Move(by int) { p.At = max(0, min(p.At+by, p.Total-1)) }

// Window returns which rows are drawn so that the chosen one is among them.
func (p *List[Row]) Window(height int) (from, end int) {
	from = max(0, min(p.At-height/2, p.Total-height))
	return from, min(from+height, p.Total)
}

// Row returns a row by its number, if it is here.
func (p *List[Row]) Row(number int) (row Row, ok bool) {
	if i := number - p.from; i >= 0 && i < len(p.rows) {
		return p.rows[i], true
	}
	return row, false
}

// Seek lists what has a text, from its beginning.
func (p *List[Row]) Seek(text string) { p.Query.Text, p.At = text, 0 }
