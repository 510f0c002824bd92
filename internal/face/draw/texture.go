package draw

import (
	"image/color"

	"omnivigil/internal/api"
	"omnivigil/internal/face/timeline"
	"omnivigil/internal/text/theme"
)

// legend explains the shapes, in the order of the legend.
var legend = []struct {
	cell timeline.Cell
	text string
}{
	{timeline.Cell{State: timeline.Debounce}, "waiting for saves to settle"},
	{timeline.Cell{State: timeline.Queued}, "queued for a job"},
	{timeline.Cell{State: api.Waiting}, "waiting for a need, or for what it follows"},
	{timeline.Cell{State: api.Setup}, "setup"},
	{timeline.Cell{State: api.Starting}, "starting"},
	{timeline.Cell{State: api.Running}, "running"},
	{timeline.Cell{State: api.Ready}, "ready, current"},
	{timeline.Cell{State: api.Done}, "done, current"},
	{timeline.Cell{State: api.Ready, Stale: true}, "ready, but stale"},
	{timeline.Cell{State: api.Done, Stale: true}, "done, but stale"},
	{timeline.Cell{State: api.Stopping}, "stopping"},
	{timeline.Cell{State: api.Failed}, "failed"},
	{timeline.Cell{State: api.Crashed}, "crashed"},
}

// meaning is the part of a cell that determines its shape.
func meaning(c timeline.Cell) timeline.Cell {
	if c.State != api.Ready && c.State != api.Done {
		c.Stale = false
	}
	return c
}

// texture draws a cell into a rectangle, with the same shapes as on the screen, each different without color.
func (p *Page) texture(c timeline.Cell, x, y, width, height float64) {
	x, width = millimetres(x), max(millimetres(width), 0.15)
	middle := y + height/2
	bar := func(share float64, ink color.RGBA) { p.box(x, middle-height*share/2, width, height*share, ink) }
	dashed := func(share float64, ink color.RGBA) {
		p.line(ink, height*share, []float64{2.4, 1.2}, [2]float64{x, middle}, [2]float64{x + width, middle})
	}
	switch c = meaning(c); {
	case c.State == api.Ready && c.Stale:
		dashed(0.3, on(theme.Stale))
	case c.State == api.Done && c.Stale:
		dashed(0.1, on(theme.Stale))
	case c.State == api.Ready:
		bar(0.3, on(theme.Current))
	case c.State == api.Done:
		bar(0.1, on(theme.Current))
	case c.State == api.Running:
		bar(0.8, on(theme.Moving))
	case c.State == api.Starting:
		p.stripes(on(theme.Moving), x, middle-height*0.4, width, height*0.8, 0.5, 0.5)
	case c.State == api.Setup:
		p.stripes(on(theme.Moving), x, middle-height*0.4, width, height*0.8, 0.25, 1)
	case c.State == api.Waiting:
		p.stripes(on(theme.Moving), x, middle-height*0.07, width, height*0.14, 0.5, 1.5)
	case c.State == timeline.Queued:
		p.stripes(on(theme.Moving), x, middle-height*0.3, width, height*0.14, 0.5, 1.5)
		p.stripes(on(theme.Moving), x, middle+height*0.16, width, height*0.14, 0.5, 1.5)
	case c.State == timeline.Debounce:
		p.box(x, y+height*0.8, width, height*0.1, grey)
	case c.State == api.Stopping:
		p.line(on(theme.Moving), height*0.1, []float64{0.9, 0.9}, [2]float64{x, middle}, [2]float64{x + width, middle})
	case c.State == api.Failed:
		p.hatch(on(theme.Broken), x, y, width, height, false)
	case c.State == api.Crashed:
		p.hatch(on(theme.Broken), x, y, width, height, true)
	}
}

// stripes fills a rectangle with vertical stripes of a width and a distance.
func (p *Page) stripes(c color.RGBA, x, y, width, height, stripe, gap float64) {
	for at := x; at < x+width; at += stripe + gap {
		p.box(millimetres(at), y, min(stripe, x+width-at), height, c)
	}
}

// hatch fills a rectangle with slanting lines, crossed or not, in a frame.
func (p *Page) hatch(c color.RGBA, x, y, width, height float64, crossed bool) {
	const gap = 1.2
	slant := func(down bool) {
		for from := x - height; from < x+width; from += gap {
			left, right := max(from, x), min(from+height, x+width)
			if right <= left {
				continue
			}
			a, b := y+height-(left-from), y+height-(right-from)
			if down {
				a, b = y+(left-from), y+(right-from)
			}
			p.line(c, 0.25, nil, [2]float64{millimetres(left), a}, [2]float64{millimetres(right), b})
		}
	}
	slant(false)
	if crossed {
		slant(true)
	}
	for _, at := range []float64{y, y + height} {
		p.line(c, 0.2, nil, [2]float64{x, at}, [2]float64{x + width, at})
	}
}

// legendHeight is the height of the legend of some shapes.
func legendHeight(used map[timeline.Cell]bool) float64 {
	return float64((len(used)+3)/4)*5 + 4
}

// legend explains the shapes that were used.
func (p *Page) legend(y float64, used map[timeline.Cell]bool) {
	i := 0
	for _, l := range legend {
		if !used[l.cell] {
			continue
		}
		x := margin + float64(i%4)*(p.width-2*margin)/4
		at := y + float64(i/4)*5
		p.texture(l.cell, x, at-3, 8, 3.6)
		p.text(x+10, at, l.text, ink{smallSize, false, grey})
		i++
	}
}
