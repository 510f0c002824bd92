package tui

import (
	"context"
	"fmt"

	"omnivigil/internal/face/tui/view"
)

// drawable returns the view to draw, if it can be drawn.
func drawable(m *view.Model) (view.Drawable, bool) {
	v, ok := m.UnderField().(view.Drawable)
	return v, ok
}

func canDraw(m *view.Model) bool { _, ok := drawable(m); return ok }

// askDrawing asks for the file that the view is drawn to.
func askDrawing(m *view.Model) {
	v, _ := drawable(m)
	name, _ := v.Drawing(m)
	name += "-" + m.Now.Format("150405") + ".svg"
	m.AskFile(m.Top(), "write a drawing to  ", ".svg or .pdf", name, func(file string) {
		if err := writeDrawing(m, file); err != nil {
			m.Notice = err.Error()
		}
	})
}

// writeDrawing writes what is shown to a file, in the background.
func writeDrawing(m *view.Model, file string) error {
	v, ok := drawable(m)
	if !ok {
		return fmt.Errorf("the %s view has no drawing", m.Top().Name())
	}
	name, page := v.Drawing(m)
	if page == nil {
		return fmt.Errorf("there is no %s to draw", name)
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
