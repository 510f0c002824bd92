package draw

import (
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/face/timeline"
	"omnivigil/internal/text/theme"
)

// Charts draws measures of a project's units over a span of time.
func Charts(
	snap *api.Snapshot,
	of map[timeline.Measure][]timeline.Graph,
	a timeline.Axis,
	date time.Time,
) (*Page, error) {
	const each, gap = 16.0, 5.0
	of = moved(of)
	height := headed + margin + 8
	for _, measure := range timeline.Measures {
		if n := len(of[measure]); n > 0 {
			height += 7 + float64(n)*(each+gap)
		}
	}
	p, err := newPage(About{snap.Project.Name, "charts", spanWords(a), date}, pageWidth, height)
	if err != nil {
		return nil, err
	}
	at := headed + 2.0
	p.axis(a, at, height-margin-6)
	for _, measure := range timeline.Measures {
		if len(of[measure]) == 0 {
			continue
		}
		p.text(margin, at+4, measure.Words(), ink{9, true, black})
		at += 7
		for i, g := range of[measure] {
			p.graph(measure, g, i, at, each)
			at += each + gap
		}
	}
	return p, nil
}

// graph draws one unit's values: an area or, for events, sticks.
func (p *Page) graph(measure timeline.Measure, g timeline.Graph, number int, top, height float64) {
	c := on(theme.Units[number%len(theme.Units)])
	name := g.Name
	if name == "" {
		name, c = "project", on(theme.Moving)
	}
	title := ink{textSize, true, c}
	p.text(margin, top+4, p.within(name, title, nameWidth-4), title)
	p.text(margin, top+8, "max "+measure.Text(g.Most), ink{smallSize, false, grey})
	p.text(margin, top+11.5, "last "+measure.Text(g.Last), ink{smallSize, false, grey})
	step := laneWidth / float64(len(g.Values))
	high := func(i int) float64 {
		if g.Values[i] != g.Values[i] || g.Full <= 0 {
			return 0
		}
		return height * g.Values[i] / g.Full
	}
	for i := 0; i < len(g.Values); {
		j := i + 1
		for !g.Single && j < len(g.Values) && high(j) == high(i) {
			j++
		}
		left := laneLeft + float64(i)*step
		switch h := high(i); {
		case h <= 0:
		case g.Failed != nil && g.Failed[i]:
			p.hatch(on(theme.Broken), left-0.8, top+height-h, 1.6, h, false)
		case g.Single:
			p.box(left-0.5, top+height-h, 1, h, c)
		default:
			p.box(millimetres(left), top+height-h, millimetres(float64(j-i)*step)+0.02, h, c)
		}
		i = j
	}
	p.line(faint, 0.1, nil, [2]float64{laneLeft, top + height}, [2]float64{laneLeft + laneWidth, top + height})
}

// moved leaves out graphs without any value.
func moved(of map[timeline.Measure][]timeline.Graph) map[timeline.Measure][]timeline.Graph {
	out := map[timeline.Measure][]timeline.Graph{}
	for measure, graphs := range of {
		for _, g := range graphs {
			if g.Most > 0 {
				out[measure] = append(out[measure], g)
			}
		}
	}
	return out
}
