package view

import (
	"context"
	"slices"
	"time"

	"omnivigil/internal/api"
)

// List is a list of results that is fetched in parts, around what is on the screen. One row is selected, and stays
// selected when the list changes.
type List[Row any] struct {
	Fetch func(ctx context.Context, p api.Record, q api.ResultQuery) (rows []Row, total int, err error)
	Same  func(a, b Row) bool

	Query  api.ResultQuery // what is listed; its part of the list is not used
	At     int             // the number of the selected row
	rows   []Row           // those that have been fetched
	from   int             // the number of the first of these
	Total  int
	asked  pageAsked
	asking bool
	Loaded bool
}

// pageAsked identifies the last request.
type pageAsked struct {
	version, from int
	text, only    string
	by            string
	at            time.Time
}

// pageRows is how many rows are fetched at once.
const pageRows = 200

// Ask fetches rows that are to be shown and are missing. Version identifies the state of the project; with another one
// all rows are fetched again.
func (p *List[Row]) Ask(m *Model, version int) {
	from := p.from
	if p.At < p.from+pageRows/4 || p.At > p.from+pageRows*3/4 {
		from = max(0, p.At-pageRows/2)
	}
	p.Query.At = m.At
	want := pageAsked{version, from, p.Query.Text, p.Query.Only, p.Query.By, m.At}
	if p.asking || p.Loaded && want == p.asked {
		return
	}
	p.asking, p.asked = true, want
	q := p.Query
	q.From, q.Count = from, pageRows
	session := m.Session()
	m.Later(func(ctx context.Context) Then {
		var rows []Row
		var total int
		of, err := m.Record(ctx, session)
		if err == nil {
			rows, total, err = p.Fetch(ctx, of, q)
		}
		return func() {
			if p.asking, p.Loaded = false, true; err != nil {
				m.Notice = err.Error()
				return
			}
			p.take(from, rows, total)
		}
	})
}

// take shows rows that have been fetched. The selected row stays selected if it is among them.
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

// Selected returns the selected row, if it has been fetched.
func (p *List[Row]) Selected() (row Row, ok bool) {
	if i := p.At - p.from; i >= 0 && i < len(p.rows) {
		return p.rows[i], true
	}
	return row, false
}

// Move selects a row so many rows below.
func (p *List[Row]) Move(by int) { p.At = max(0, min(p.At+by, p.Total-1)) }

// Window returns the numbers of the first row to draw and of the one after the last, so that the selected row is drawn.
func (p *List[Row]) Window(height int) (from, end int) {
	from = max(0, min(p.At-height/2, p.Total-height))
	return from, min(from+height, p.Total)
}

// Row returns a row by its number, if it has been fetched.
func (p *List[Row]) Row(number int) (row Row, ok bool) {
	if i := number - p.from; i >= 0 && i < len(p.rows) {
		return p.rows[i], true
	}
	return row, false
}

// Seek lists only rows with a text, from the first.
func (p *List[Row]) Seek(text string) { p.Query.Text, p.At = text, 0 }
