package draw

import (
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/face/timeline"
	"omnivigil/internal/text/format"
	"omnivigil/internal/text/theme"
)

// The layout of a page of lanes or bars.
const (
	nameWidth = 46.0 // of names and states
	rowHeight = 6.5
	perLetter = 4 // columns of an axis for a character
)

// lane is the width of lanes, and their number of columns.
const (
	laneLeft  = margin + nameWidth
	laneWidth = pageWidth - margin - laneLeft - 20
)

const laneColumns = 600

// AxisOf is the axis of a page for a range of time.
func AxisOf(from, to time.Time) timeline.Axis {
	span := max(to.Sub(from), time.Second)
	return timeline.Axis{Start: from, Column: span/laneColumns + 1, N: laneColumns, Letter: perLetter}
}

// x is the position of a time.
func x(a timeline.Axis, t time.Time) float64 {
	share := float64(t.Sub(a.Start)) / float64(a.Span())
	return laneLeft + laneWidth*max(0, min(share, 1))
}

// spanWords describes the range of an axis.
func spanWords(a timeline.Axis) string {
	end := a.Time(a.N)
	layout := "15:04:05"
	if a.Start.YearDay() != end.YearDay() {
		layout = "2 Jan 15:04"
	}
	return a.Start.Format(layout) + " to " + end.Format(layout) + ", " + format.Duration(a.Span().Round(time.Second))
}

// Lanes draws the lives of a project's units over a range of time, with its saves.
func Lanes(snap *api.Snapshot, a timeline.Axis, date time.Time) (*Page, error) {
	used := map[timeline.Cell]bool{}
	lanes := make([]timeline.Lane, len(snap.Units))
	for i, u := range snap.Units {
		lanes[i] = timeline.LaneOf(u.Marks, a, snap.At)
		for _, c := range lanes[i].Cells {
			if c = meaning(c); c.State != api.Idle && c.State != api.Stopped {
				used[c] = true
			}
		}
	}
	height := headed + 8 + float64(len(lanes))*rowHeight + 10 + legendHeight(used) + margin
	p, err := newPage(About{snap.Project.Name, "lanes", spanWords(a), date}, pageWidth, height)
	if err != nil {
		return nil, err
	}
	top := headed + 8
	bottom := top + float64(len(lanes))*rowHeight
	p.axis(a, top, bottom)
	p.saves(snap, a, top, bottom)
	for i, u := range snap.Units {
		p.lane(u, lanes[i], i, top+float64(i)*rowHeight)
	}
	p.text(margin, bottom+10, string(snap.Verdict.Word), ink{textSize, true, toneInk(snap.Verdict.Word.Tone())})
	p.text(
		margin+22,
		bottom+10,
		p.within(snap.Verdict.Text, ink{textSize, false, black}, p.width-2*margin-22),
		ink{textSize, false, black},
	)
	p.legend(bottom+17, used)
	return p, nil
}

// axis labels the times of day.
func (p *Page) axis(a timeline.Axis, top, bottom float64) {
	for _, t := range a.Ticks(50) {
		at := x(a, t)
		p.line(faint, 0.1, nil, [2]float64{at, top}, [2]float64{at, bottom})
		p.text(at+0.7, bottom+3.5, a.Label(t), ink{smallSize, false, grey})
	}
	p.line(faint, 0.2, nil, [2]float64{margin, bottom}, [2]float64{p.width - margin, bottom})
}

// saves marks the saves above the lanes.
func (p *Page) saves(snap *api.Snapshot, a timeline.Axis, top, bottom float64) {
	p.text(margin, top-2.5, "saves", ink{smallSize, false, grey})
	for _, tick := range timeline.Saves(snap.Saves, a) {
		at := x(a, a.Time(tick.Column))
		c := grey
		if tick.Newest {
			c = black
		}
		p.line(c, 0.5, nil, [2]float64{at - 0.9, top - 3.6}, [2]float64{at, top - 1.6}, [2]float64{at + 0.9, top - 3.6})
		p.line(faint, 0.12, []float64{0.6, 0.8}, [2]float64{at, top - 1.4}, [2]float64{at, bottom})
		p.text(at+1.3, top-2, tick.Number, ink{smallSize, tick.Newest, c})
	}
}

// lane draws a unit.
func (p *Page) lane(u *api.Unit, lane timeline.Lane, number int, top float64) {
	base := top + rowHeight*0.68
	name := ink{textSize, true, on(theme.Units[number%len(theme.Units)])}
	p.text(margin, base, p.within(u.Name, name, 28), name)
	state := ink{smallSize, false, toneInk(u.Tone())}
	p.text(margin+29, base, p.within(string(u.State), state, 16), state)
	step := laneWidth / float64(len(lane.Cells))
	for i := 0; i < len(lane.Cells); {
		j := i + 1
		for j < len(lane.Cells) && meaning(lane.Cells[j]) == meaning(lane.Cells[i]) {
			j++
		}
		p.texture(lane.Cells[i], laneLeft+float64(i)*step, top+0.9, float64(j-i)*step, rowHeight-1.8)
		i = j
	}
	for _, l := range lane.Labels {
		at := laneLeft + float64(l.Column)*step
		p.box(at, top+1.5, float64(len(l.Text)*perLetter)*step, rowHeight-3, white)
		p.text(at+0.6, base, l.Text, ink{smallSize, false, grey})
	}
}
