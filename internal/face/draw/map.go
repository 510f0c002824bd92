package draw

import (
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/face/timeline"
	"omnivigil/internal/text/theme"
)

// mapPage is the layout of a map on paper.
type mapPage struct {
	*Page
	m    timeline.Map
	left []float64 // the left edge of each layer
}

const (
	boxWidth  = 40.0
	boxHeight = 9.0
	boxPitch  = 14.0 // the distance of rows
	trackGap  = 2.2
)

// Map draws needs and follows.
func Map(snap *api.Snapshot, date time.Time) (*Page, error) {
	d := mapPage{m: timeline.MapOf(snap, timeline.MapOptions{})}
	left := margin
	for i := range d.m.Layers {
		d.left = append(d.left, left)
		if left += boxWidth; i < len(d.m.Tracks) {
			left += float64(d.m.Tracks[i]+3) * trackGap
		}
	}
	width := max(left+margin, 160)
	height := headed + 4 + float64(d.m.Rows)*boxPitch + 12
	p, err := newPage(
		About{snap.Project.Name, "map", "as it was at " + snap.At.Format("15:04:05"), date},
		width,
		height,
	)
	if err != nil {
		return nil, err
	}
	d.Page = p
	for _, k := range d.m.Links {
		d.link(k)
	}
	for i, b := range d.m.Boxes {
		d.unit(b, i)
	}
	at := height - margin
	p.line(grey, 0.25, nil, [2]float64{margin, at - 1}, [2]float64{margin + 10, at - 1})
	p.text(margin+12, at, "to what needs it", ink{smallSize, false, grey})
	p.line(black, 0.9, nil, [2]float64{margin + 45, at - 1}, [2]float64{margin + 55, at - 1})
	p.text(margin+57, at, "to what follows it", ink{smallSize, false, grey})
	return p, nil
}

// row is the middle of a row.
func (d *mapPage) row(n int) float64 { return headed + 4 + float64(n)*boxPitch + boxHeight/2 }

func (d *mapPage) link(k timeline.Link) {
	c, width := grey, 0.25
	if k.Follows {
		c, width = black, 0.9
	}
	places := [][2]float64{{d.left[d.m.Boxes[k.From].Layer] + boxWidth, d.row(d.m.Boxes[k.From].Row)}}
	for _, s := range k.Steps {
		track := d.left[s.Layer] + boxWidth + float64(s.Track+1)*trackGap
		places = append(
			places,
			[2]float64{track, d.row(s.In)},
			[2]float64{track, d.row(s.Out)},
			[2]float64{d.left[s.Layer+1], d.row(s.Out)},
		)
	}
	d.line(c, width, nil, places...)
}

func (d *mapPage) unit(b timeline.Box, number int) {
	u := b.Units[0]
	left, top := d.left[b.Layer], d.row(b.Row)-boxHeight/2
	d.box(left, top, boxWidth, boxHeight, white)
	right, bottom := left+boxWidth, top+boxHeight
	d.line(
		grey,
		0.3,
		nil,
		[2]float64{left, top},
		[2]float64{right, top},
		[2]float64{right, bottom},
		[2]float64{left, bottom},
		[2]float64{left, top},
	)
	name := ink{textSize, true, on(theme.Units[number%len(theme.Units)])}
	d.text(left+2, top+3.8, d.within(u.Name, name, boxWidth-4), name)
	d.text(left+2, top+7.6, u.Kind+", "+string(u.State), ink{smallSize, false, toneInk(u.Tone())})
	d.texture(timeline.Cell{State: u.State, Stale: u.Freshness == api.Stale}, right-8, top+5, 6, 3)
}
