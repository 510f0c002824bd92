package ripples

import (
	"omnivigil/internal/face/draw"
	"omnivigil/internal/face/tui/overview"
	"omnivigil/internal/face/tui/view"
	"omnivigil/internal/output/query"
)

// goToRun moves the time cursor to the start of the selected run.
func (v *ripples) goToRun(m *view.Model) {
	r := v.ripple(m)
	if r == nil {
		return
	}
	at := r.Since
	if ref := v.run(m); ref != nil && len(ref.Spans) > 0 {
		at, m.Selected = ref.Spans[len(ref.Spans)-1].From, ref.Unit
	}
	m.BackToLanes()
	overview.GoTo(m, at)
}

// onlyOutput shows only the output of the selected ripple's runs.
func (v *ripples) onlyOutput(m *view.Model) {
	r := v.ripple(m)
	if r == nil {
		return
	}
	m.BackToLanes()
	s := overview.Focused(m)
	s.Use(m, append(s.Filter.Without(query.Ripple), query.Term{Field: query.Ripple, Number: r.ID}))
	switch {
	case r.Resting():
		overview.GoTo(m, r.RestAt)
	case m.IsPast(): // it is of the running session
		overview.BackToNow(m)
	}
}

// Drawing implements view.Drawable.
func (v *ripples) Drawing(m *view.Model) (string, func() (*draw.Page, error)) {
	r, name, now := v.ripple(m), m.Snap.Project.Name, m.Now
	if r == nil {
		return "ripple", nil
	}
	return "ripple", func() (*draw.Page, error) { return draw.Ripple(name, r, now, now) }
}

// Bindings are those of the view.
var Bindings = []view.Binding{
	{In: "ripples", Keys: []string{"up", "k"}, Name: "newer ripple", Hint: "select", Group: view.GroupRipples,
		Do: view.On(func(m *view.Model, v *ripples) { v.move(m, -1) })},
	{In: "ripples", Keys: []string{"down", "j"}, Name: "older ripple", Group: view.GroupRipples,
		Do: view.On(func(m *view.Model, v *ripples) { v.move(m, 1) })},
	{In: "ripples", Keys: []string{"shift+up"}, Name: "10 ripples forward", Group: view.GroupRipples,
		Do: view.On(func(m *view.Model, v *ripples) { v.move(m, -10) })},
	{In: "ripples", Keys: []string{"shift+down"}, Name: "10 ripples back", Group: view.GroupRipples,
		Do: view.On(func(m *view.Model, v *ripples) { v.move(m, 10) })},
	{In: "ripples", Keys: []string{"home", "g"}, Name: "newest ripple", Group: view.GroupRipples,
		Do: view.On(func(m *view.Model, v *ripples) { v.choose(m, 0) })},
	{In: "ripples", Keys: []string{"end", "G"}, Name: "oldest known ripple", Group: view.GroupRipples,
		Do: view.On(func(m *view.Model, v *ripples) { v.choose(m, len(m.Live.Ripples)+len(v.earlier.all)) })},
	{In: "ripples", Keys: []string{"right"}, Name: "next run in the waterfall", Hint: "next run",
		Group: view.GroupRipples, Do: view.On(func(m *view.Model, v *ripples) { v.moveBar(m, 1) })},
	{In: "ripples", Keys: []string{"left"}, Name: "previous run in the waterfall",
		Group: view.GroupRipples,
		Do:    view.On(func(m *view.Model, v *ripples) { v.moveBar(m, -1) })},
	{In: "ripples", Keys: []string{"enter"}, Name: "go to the run's time in lanes and stream",
		Hint: "go to that time", Group: view.GroupRipples,
		Do: view.On(func(m *view.Model, v *ripples) { v.goToRun(m) })},
	{In: "ripples", Keys: []string{"^"}, Name: "show only this ripple's output", Hint: "only its output",
		Group: view.GroupRipples, Do: view.On(func(m *view.Model, v *ripples) { v.onlyOutput(m) })},
	{In: "ripples", Keys: []string{"W"}, Name: "show what it changed, line by line, or its runs", Hint: "what changed",
		Group: view.GroupRipples,
		Do:    view.On(func(_ *view.Model, v *ripples) { v.lines.shown = !v.lines.shown })},
	{In: "ripples", Keys: []string{"pgup"}, Name: "page up in the changed lines", Group: view.GroupRipples,
		When: canPage, Unless: noPage, Do: view.On(func(_ *view.Model, v *ripples) { v.pageUp() })},
	{In: "ripples", Keys: []string{"pgdown"}, Name: "page down in the changed lines", Group: view.GroupRipples,
		When: canPage, Unless: noPage, Do: view.On(func(_ *view.Model, v *ripples) { v.pageDown() })},
	{In: "ripples", Keys: []string{"tab"}, Name: "compare with an earlier ripple of the same files", Hint: "compare",
		Group: view.GroupRipples,
		Do:    view.On(func(_ *view.Model, v *ripples) { v.compare = !v.compare })},
	{In: "ripples", Keys: []string{"esc", "q", "R"}, Name: "back to the lanes", Hint: "back", Group: view.GroupRipples,
		Do: (*view.Model).BackToLanes},
}
