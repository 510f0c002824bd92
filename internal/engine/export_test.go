package engine

// ShowAll forgets what was shown and the standings, so that the next snapshot is derived only from the units.
func (e *Engine) ShowAll() {
	e.standings.place(e.inFileOrder())
	for _, u := range e.units {
		u.changed = false
		e.standings.enter(u)
	}
	e.standings.changed = nil
	for _, r := range e.ripples.live {
		r.shown = nil
	}
}
