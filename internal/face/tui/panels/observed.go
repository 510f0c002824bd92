package panels

import (
	"context"
	"fmt"
	"time"

	tea "charm.land/bubbletea/v2"

	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/cells"
	"omnivigil/internal/face/tui/view"
	"omnivigil/internal/text/format"
)

// observedPanel shows how the settings of the selected unit differ from what its processes were seen to do, with the
// keys to observe it and to write what is proposed.
type observedPanel struct {
	seen   api.Observations // of unit
	unit   string
	at     time.Time // when they were fetched
	asking bool
	told   string // the answer to the last request
	failed bool   // it was refused
}

// ShowObserved opens the panel. If another unit has a doubt about what it has read and the selected one has none, the
// other one is selected.
func ShowObserved(m *view.Model) {
	other := ""
	for _, d := range m.Snap.Doubts {
		if d.Kind != string(api.UncoveredRead) {
			continue
		}
		if other == "" {
			other = d.Unit
		}
		if d.Unit == m.Selected {
			other = m.Selected
		}
	}
	if other != "" {
		m.Selected = other
	}
	m.Open(&observedPanel{})
}

func (*observedPanel) Name() string { return "observed" }

func (*observedPanel) Grabs(*view.Model) bool { return true }

func (*observedPanel) Update(*view.Model, tea.Msg) {}

// observedPause is how often the observations are fetched while the panel is open.
const observedPause = time.Second

// Ask fetches the observations of the selected unit.
func (o *observedPanel) Ask(m *view.Model) {
	unit := m.Selected
	if o.asking || o.unit == unit && m.Now.Sub(o.at) < observedPause {
		return
	}
	if o.unit != unit {
		o.seen, o.told = api.Observations{}, ""
	}
	o.asking, o.unit = true, unit
	m.Later(func(ctx context.Context) view.Then {
		seen, err := m.Project.Observations(ctx, []string{unit})
		return func() {
			o.asking, o.at = false, m.Now
			if err != nil {
				o.told, o.failed = err.Error(), true
				return
			}
			o.seen = seen
		}
	})
}

// request carries out a request for the selected unit and shows the answer.
func (o *observedPanel) request(m *view.Model, a api.Action) {
	unit := m.Selected
	m.Act(func(ctx context.Context) view.Then {
		answer, err := m.Project.Do(ctx, api.Request{Action: a, Units: []string{unit}})
		return func() {
			o.told, o.failed, o.at = answer.Text, err != nil, time.Time{}
			if err != nil {
				o.told = err.Error()
			}
		}
	})
}

// Draw draws the panel instead of the stream.
func (o *observedPanel) Draw(m *view.Model, width, height int) []string {
	return draw(m, "observed: "+m.Selected, width, height, func(int) []string { return o.rows(m) })
}

func (o *observedPanel) rows(m *view.Model) []string {
	rows := []string{""}
	add := func(format string, args ...any) { rows = append(rows, "  "+fmt.Sprintf(format, args...)) }
	switch {
	case o.unit != m.Selected || o.at.IsZero() && len(o.seen.Units) == 0:
		add("reading what was observed …")
	case len(o.seen.Units) == 0:
		add("%s has not been observed: which files it reads, writes and looks for, and what it connects to, is unknown",
			m.Selected)
		add("%s", m.Palette.Dim.Render("observe = true in its settings observes each of its runs"))
	default:
		rows = append(rows, MismatchRows(m, o.seen.Mismatches)...)
		if len(o.seen.Mismatches) == 0 {
			add("%s", m.Palette.Current.Render("its settings agree with what it was seen to do"))
		}
		add("")
		rows = append(rows, ActivityRows(m, o.seen.Units[0])...)
	}
	add("")
	rows = append(rows, keyRows(m, "observed", view.GroupObserved)...)
	if o.told != "" {
		style := m.Palette.Text
		if o.failed {
			style = m.Palette.Broken
		}
		add("")
		add("%s", style.Render(o.told))
	}
	return rows
}

// MismatchRows shows mismatches, each with the proposed edits.
func MismatchRows(m *view.Model, all []api.Mismatch) []string {
	var rows []string
	for _, one := range all {
		style := m.Palette.Stale
		switch one.Severity {
		case api.SeverityError:
			style = m.Palette.Broken
		case api.SeverityNote:
			style = m.Palette.Dim
		}
		rows = append(rows, "  "+style.Render(cells.Fit(string(one.Severity), 9))+m.Palette.Text.Render(one.Text))
		for _, e := range one.Edits {
			rows = append(rows, "           "+m.Palette.Bright.Render(e.Text)+
				m.Palette.Dim.Render(fmt.Sprintf("  line %d", one.Line)))
		}
	}
	return rows
}

// ActivityRows counts what a unit was seen to do.
func ActivityRows(m *view.Model, o api.Observation) []string {
	var rows []string
	add := func(name, text string) {
		rows = append(rows, "  "+m.Palette.Dim.Render(cells.Fit(name, 12))+text)
	}
	covered, kept := 0, 0
	for _, r := range o.Reads {
		switch {
		case r.Rule != "":
			covered++
		case r.Exempt != "":
			kept++
		}
	}
	text := fmt.Sprintf("%s: %d by its rules", format.Count(len(o.Reads), "file"), covered)
	if kept > 0 {
		text += fmt.Sprintf(", %d that need none", kept)
	}
	if n := len(o.Reads) - covered - kept; n > 0 {
		text += ", " + m.Palette.Stale.Render(fmt.Sprintf("%d that no rule covers", n))
	}
	add("read", text)
	if n := len(o.Writes); n > 0 {
		add("wrote", format.Count(n, "file"))
	}
	if len(o.Missing) > 0 {
		add("looked for", format.ListOf(o.Missing[:min(len(o.Missing), 4)], len(o.Missing)))
	}
	if len(o.Listens) > 0 {
		add("listens on", format.List(o.Listens))
	}
	var peers []string
	for _, p := range o.Connects {
		if p.Unit != "" {
			peers = append(peers, p.Unit)
		}
	}
	if len(peers) > 0 {
		add("connects to", format.List(peers))
	}
	return rows
}

// ObservedKeys are those of the panel.
var ObservedKeys = []view.Binding{
	{In: "observed", Keys: []string{"r"}, Name: "restart it under observation", Hint: "restart under observation",
		Group: view.GroupObserved,
		Do:    view.On(func(m *view.Model, o *observedPanel) { o.request(m, api.Observe) })},
	{In: "observed", Keys: []string{"w"}, Name: "write the proposed rules into omnivigil.toml", Hint: "write the rules",
		Group: view.GroupObserved,
		Do:    view.On(func(m *view.Model, o *observedPanel) { o.request(m, api.WriteRules) })},
	{In: "observed", Keys: []string{"esc", "q", "O", "ctrl+c"}, Name: "close", Hint: "close", Group: view.GroupField,
		Do: (*view.Model).Close},
}
