package ripples

import (
	"context"
	"errors"

	"omnivigil/internal/api"
	"omnivigil/internal/api/changes"
	"omnivigil/internal/face/card"
	"omnivigil/internal/face/tui/cells"
	"omnivigil/internal/face/tui/panels"
	"omnivigil/internal/face/tui/view"
)

// lines are what the selected ripple has changed, line by line.
type lines struct {
	shown  bool
	of     *api.Ripple
	got    changes.Changes
	why    string // they are not known
	asking bool
	top    int // the first row
	room   int // rows, as last drawn
	below  int // rows below those drawn last
}

// maxHunk is how many lines are shown of a part of a file, unless it is unfolded.
const maxHunk = 40

// ShowChanges shows what the newest ripple has changed.
func ShowChanges(m *view.Model) {
	Show(m)
	if v, is := m.Top().(*ripples); is {
		v.lines.shown = true
	}
}

// ask fetches the changes of a ripple.
func (l *lines) ask(m *view.Model, r *api.Ripple, session string) {
	if !l.shown || l.of == r || l.asking {
		return
	}
	l.asking = true
	m.Later(func(ctx context.Context) view.Then {
		var got changes.Changes
		from, err := m.Record(ctx, session)
		if err == nil {
			got, err = from.Changes(ctx, changes.Query{Ripple: r.ID})
		}
		return func() {
			l.of, l.got, l.why, l.asking, l.top = r, got, "", false, 0
			if refusal := (*api.Refusal)(nil); errors.As(err, &refusal) {
				l.why = refusal.Text
			} else {
				m.ShowError(err)
			}
		}
	})
}

// draw draws the changes.
func (l *lines) draw(m *view.Model, width, height int) []string {
	dim := func(text string) []string { return []string{cells.Fit(m.Palette.Dim.Render("  "+text), width)} }
	switch {
	case l.asking || l.of == nil:
		return dim("reading the files …")
	case l.why != "":
		return dim(l.why)
	case len(l.got.Files) == 0:
		return dim("it has changed no text file that affects a unit")
	}
	rows := panels.CardRows(m, card.Changes(l.got.Files, maxHunk), width)
	l.top = max(0, min(l.top, len(rows)-height))
	l.room, l.below = height, max(len(rows)-l.top-height, 0)
	rows = rows[l.top:min(l.top+height, len(rows))]
	for i := range rows {
		rows[i] = cells.Fit(rows[i], width)
	}
	return rows
}

const noPage = "there is nothing else to scroll"

// canPage reports whether the keys that scroll act on the changed lines.
func canPage(m *view.Model) bool {
	v, is := m.Top().(*ripples)
	return is && v.lines.shown && (v.lines.top > 0 || v.lines.below > 0)
}

func (v *ripples) pageUp()   { v.lines.top -= max(v.lines.room-2, 1) }
func (v *ripples) pageDown() { v.lines.top += max(v.lines.room-2, 1) }
