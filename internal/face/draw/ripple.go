package draw

import (
	"fmt"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/face/timeline"
	"omnivigil/internal/text/format"
	"omnivigil/internal/text/theme"
)

// Ripple draws a ripple as a waterfall.
func Ripple(project string, r *api.Ripple, now, date time.Time) (*Page, error) {
	w := timeline.WaterfallOf(r, now, laneColumns)
	used := map[timeline.Cell]bool{}
	for _, b := range w.Bars {
		for _, s := range b.Spans {
			used[timeline.Cell{State: api.State(s.Phase)}] = true
		}
		if b.Failed {
			used[timeline.Cell{State: api.Failed}] = true
		}
	}
	const bar = 2 * rowHeight
	height := headed + 14 + float64(len(w.Bars))*bar + 8 + legendHeight(used) + margin
	span := fmt.Sprintf(
		"%s, %s",
		r.Since.Format("2 January 2006, 15:04:05"),
		format.Duration(w.Axis.Span().Round(10*time.Millisecond)),
	)
	p, err := newPage(About{project, fmt.Sprintf("ripple %d", r.ID), span, date}, pageWidth, height)
	if err != nil {
		return nil, err
	}
	title := ink{10, true, black}
	p.text(margin, headed+4, p.within(r.Title, title, p.width-2*margin), title)
	said := string(r.Outcome)
	if r.Detail != "" {
		said += ": " + r.Detail
	}
	if len(r.TookOver) > 0 {
		said += fmt.Sprintf("; took over %v", r.TookOver)
	}
	outcome := ink{textSize, false, toneInk(r.Outcome.Tone())}
	p.text(margin, headed+8.5, p.within(said, outcome, p.width-2*margin), outcome)
	top := headed + 14
	bottom := top + float64(len(w.Bars))*bar
	for _, d := range w.Axis.Elapsed(40) {
		at := x(w.Axis, r.Since.Add(d))
		p.line(faint, 0.1, nil, [2]float64{at, top}, [2]float64{at, bottom})
		p.text(at+0.7, bottom+3.5, format.Duration(d), ink{smallSize, false, grey})
	}
	p.line(faint, 0.2, nil, [2]float64{margin, bottom}, [2]float64{p.width - margin, bottom})
	for i := range w.Bars {
		p.bar(w.Axis, &w.Bars[i], i, top+float64(i)*bar)
	}
	p.legend(bottom+11, used)
	return p, nil
}

// bar draws a run, and below it why it ran and what it waited for.
func (p *Page) bar(a timeline.Axis, b *timeline.Bar, number int, top float64) {
	base := top + rowHeight*0.68
	name := ink{textSize, true, on(theme.Units[number%len(theme.Units)])}
	p.text(margin, base, p.within(b.Unit, name, 28), name)
	which := fmt.Sprintf("run %d", b.Number)
	if b.Pass > 0 {
		which = fmt.Sprintf("pass %d", b.Pass)
	}
	p.text(margin+29, base, which, ink{smallSize, false, grey})
	for _, s := range b.Spans {
		from, to := x(a, s.From), x(a, s.To)
		p.texture(timeline.Cell{State: api.State(s.Phase)}, from, top+0.9, to-from, rowHeight-1.8)
	}
	c, took := grey, ""
	if !b.From.IsZero() {
		took = format.Duration(b.Took())
	}
	if b.Failed {
		c, took = on(theme.Broken), took+" failed"
		p.texture(timeline.Cell{State: api.Failed}, max(x(a, b.To)-3, laneLeft), top+0.9, 3, rowHeight-1.8)
	}
	p.right(p.width-margin, base, took, ink{smallSize, b.Failed, c})
	why := ink{smallSize, false, grey}
	p.text(laneLeft, top+rowHeight+2.6, p.within(b.Reason(), why, laneWidth), why)
}
