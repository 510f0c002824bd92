package draw

import (
	"fmt"
	"time"

	"omnivigil/internal/face/timeline"
	"omnivigil/internal/text/theme"
)

// Days draws measures of a project's units by day: for each day a box from quartile to quartile with a line at the
// median, a line from the least to the greatest value, and a hatched foot if runs have failed. A mark above a day says
// that a trend began there.
func Days(project string, of map[timeline.Measure][]timeline.Boxes, first time.Time, date time.Time) (*Page, error) {
	const each, gap = 16.0, 6.0
	height, days := headed+margin+8.0, 0
	for _, measure := range timeline.DayMeasures {
		if n := len(of[measure]); n > 0 {
			height += 7 + float64(n)*(each+gap)
			days = len(of[measure][0].Days)
		}
	}
	p, err := newPage(About{project, "charts", fmt.Sprintf("%d days", days), date}, pageWidth, height)
	if err != nil {
		return nil, err
	}
	at := headed + 2.0
	p.mondays(first, days, at, height-margin-6)
	for _, measure := range timeline.DayMeasures {
		if len(of[measure]) == 0 {
			continue
		}
		p.text(margin, at+4, measure.Words(), ink{9, true, black})
		at += 7
		for i, b := range of[measure] {
			p.boxes(measure, b, i, at, each)
			at += each + gap
		}
	}
	return p, nil
}

// mondays draws a line and the date at the beginning of each week.
func (p *Page) mondays(first time.Time, days int, top, bottom float64) {
	step := laneWidth / float64(max(days, 1))
	free := 0.0
	for n := range days {
		day := first.AddDate(0, 0, n)
		if day.Weekday() != time.Monday {
			continue
		}
		x := laneLeft + float64(n)*step
		p.line(faint, 0.1, nil, [2]float64{x, top}, [2]float64{x, bottom})
		if x >= free {
			p.text(x+0.5, bottom+3, day.Format("2 Jan"), ink{smallSize, false, grey})
			free = x + 14
		}
	}
}

// boxes draws one unit's days.
func (p *Page) boxes(measure timeline.Measure, b timeline.Boxes, number int, top, height float64) {
	c := on(theme.Units[number%len(theme.Units)])
	title := ink{textSize, true, c}
	p.text(margin, top+4, p.within(b.Name, title, nameWidth-4), title)
	p.text(margin, top+8, "max "+measure.Text(b.Most), ink{smallSize, false, grey})
	p.text(margin, top+11.5, fmt.Sprintf("%d of %d failed", b.Broke, b.Runs), ink{smallSize, false, grey})
	step := laneWidth / float64(len(b.Days))
	y := func(v float64) float64 { return top + height - height*min(v/max(b.Full, measure.Least()), 1) }
	for n, day := range b.Days {
		left, width := laneLeft+(float64(n)+0.15)*step, step*0.7
		if five := day.Five; five.Most() > 0 {
			middle := left + width/2
			p.line(grey, 0.15, nil, [2]float64{middle, y(five[0])}, [2]float64{middle, y(five[4])})
			p.box(left, y(five[3]), width, max(y(five[1])-y(five[3]), 0.3), c)
			p.line(black, 0.25, nil, [2]float64{left, y(five[2])}, [2]float64{left + width, y(five[2])})
		}
		if day.Broken > 0 {
			p.hatch(on(theme.Broken), left, top+height-1.6, width, 1.6, false)
		}
		for _, t := range day.Trends {
			mark := ink{smallSize, true, on(theme.Stale)}
			p.line(on(theme.Stale), 0.4, nil, [2]float64{left, top - 1}, [2]float64{left, top + height})
			p.text(left+0.8, top, p.within(t.Text, mark, laneLeft+laneWidth-left-1), mark)
		}
	}
	p.line(faint, 0.1, nil, [2]float64{laneLeft, top + height}, [2]float64{laneLeft + laneWidth, top + height})
}
