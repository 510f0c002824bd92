package tui

import (
	"context"
	"slices"

	"omnivigil/internal/api"
)

// pages is a list of which the project is asked for no more than what is near the screen. One
// row of it is chosen, and stays that as the list changes.
type pages[Row any] struct {
	fetch func(ctx context.Context, p api.Project, q api.ResultQuery) (rows []Row, total int, err error)
	same  func(a, b Row) bool

	query  api.ResultQuery // what is listed, except its part
	at     int             // the chosen row, of all
	rows   []Row           // those that are here
	from   int             // number of the first of these
	total  int
	asked  pageAsked
	asking bool
	loaded bool
}

// pageAsked is what was asked for last.
type pageAsked struct {
	version, from int
	text, only    string
	by            string
}

// pageRows is how many rows are asked for at once.
const pageRows = 200

// ask asks for rows where others are to be shown than are here. Version says which state of the
// project they are of.
func (p *pages[Row]) ask(m *model, version int) {
	from := p.from
	if p.at < p.from+pageRows/4 || p.at > p.from+pageRows*3/4 {
		from = max(0, p.at-pageRows/2)
	}
	want := pageAsked{version, from, p.query.Text, p.query.Only, p.query.By}
	if p.asking || p.loaded && want == p.asked {
		return
	}
	p.asking, p.asked = true, want
	q := p.query
	q.From, q.Count = from, pageRows
	m.later(func(ctx context.Context) then {
		rows, total, err := p.fetch(ctx, m.project, q)
		return func() {
			if p.asking, p.loaded = false, true; err != nil {
				m.notice = err.Error()
				return
			}
			p.take(from, rows, total)
		}
	})
}

// take takes rows that have come. The chosen one is looked for among them.
func (p *pages[Row]) take(from int, rows []Row, total int) {
	chosen, was := p.selected()
	p.from, p.rows, p.total = from, rows, total
	if was {
		if i := slices.IndexFunc(p.rows, func(r Row) bool { return p.same(r, chosen) }); i >= 0 {
			p.at = p.from + i
		}
	}
	p.at = max(0, min(p.at, p.total-1))
}

// selected returns the selected row, if it is here.
func (p *pages[Row]) selected() (row Row, ok bool) {
	if i := p.at - p.from; i >= 0 && i < len(p.rows) {
		return p.rows[i], true
	}
	return row, false
}

// move chooses another row.
func (p *pages[Row]) move(by int) { p.at = max(0, min(p.at+by, p.total-1)) }

// window returns which rows are drawn so that the chosen one is among them.
func (p *pages[Row]) window(height int) (from, end int) {
	from = max(0, min(p.at-height/2, p.total-height))
	return from, min(from+height, p.total)
}

// row returns a row by its number, if it is here.
func (p *pages[Row]) row(number int) (row Row, ok bool) {
	if i := number - p.from; i >= 0 && i < len(p.rows) {
		return p.rows[i], true
	}
	return row, false
}

// seek lists what has a text, from its beginning.
func (p *pages[Row]) seek(text string) { p.query.Text, p.at = text, 0 }
