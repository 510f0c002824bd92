package tui

import (
	"context"
	"errors"
	"fmt"

	"omnivigil/internal/face/draw"
	"omnivigil/internal/face/timeline"
	"omnivigil/internal/face/tui/lanes"
	"omnivigil/internal/face/tui/overview"
	"omnivigil/internal/face/tui/view"
)

// drawable is what of a view is drawn: its name, empty for none.
func drawable(m *view.Model) string {
	switch m.UnderField().Name() {
	case "overview":
		return "lanes"
	case "ripples":
		return "ripple"
	case "map", "charts":
		return m.UnderField().Name()
	}
	return ""
}

// askDrawing asks for the file that the view is drawn to.
func askDrawing(m *view.Model) {
	name := drawable(m) + "-" + m.Now.Format("150405") + ".svg"
	m.AskFile(m.Top(), "write a drawing to  ", ".svg or .pdf", name, func(file string) {
		if err := writeDrawing(m, file); err != nil {
			m.Notice = err.Error()
		}
	})
}

// writeDrawing writes what is shown to a file, in the background.
func writeDrawing(m *view.Model, file string) error {
	page, err := drawingOf(m)
	if err != nil {
		return err
	}
	file = m.PathOf(file)
	m.Later(func(context.Context) view.Then {
		p, err := page()
		if err == nil {
			err = p.File(file)
		}
		return func() { m.Saved(err, "drawn to "+file) }
	})
	return nil
}

// drawingOf returns what draws the view that is shown.
func drawingOf(m *view.Model) (func() (*draw.Page, error), error) {
	snap, a, now := m.Snap, lanes.AxisOf(m), m.Now
	page := draw.AxisOf(a.Time(0), a.Time(a.N))
	switch v := m.UnderField().(type) {
	case *overview.Overview:
		return func() (*draw.Page, error) { return draw.Lanes(snap, page, now) }, nil
	case *ripples:
		if r := v.ripple(m); r != nil {
			return func() (*draw.Page, error) { return draw.Ripple(snap.Project.Name, r, now, now) }, nil
		}
		return nil, errors.New("there is no ripple to draw")
	case *mapView:
		return func() (*draw.Page, error) { return draw.Map(snap, now) }, nil
	case *charts:
		measure := timeline.Measures[v.measure]
		graphs := timeline.ChartOf(measure, snap, &m.Samples.Series, page, now)
		return func() (*draw.Page, error) {
			return draw.Charts(snap, map[timeline.Measure][]timeline.Graph{measure: graphs}, page, now)
		}, nil
	}
	return nil, fmt.Errorf("the %s view has no drawing", m.Top().Name())
}
