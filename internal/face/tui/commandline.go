package tui

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/sahilm/fuzzy"

	"omnivigil/internal/face/timeline"
	"omnivigil/internal/face/tui/cells"
	"omnivigil/internal/face/tui/charts"
	"omnivigil/internal/face/tui/lanes"
	"omnivigil/internal/face/tui/mapview"
	"omnivigil/internal/face/tui/overview"
	"omnivigil/internal/face/tui/ripples"
	"omnivigil/internal/face/tui/view"
	"omnivigil/internal/output/query"
	"omnivigil/internal/text/suggest"
)

// command is an action that the user finds by name.
type command struct {
	name, help string
	keys       string // those of the same action; empty: none
	args       string // what may follow, as the list shows it; empty: nothing
	offers     func(m *view.Model) []string
	do         func(m *view.Model, args []string) error
}

// commandLine is the field in which the user finds an action by its name.
type commandLine struct {
	view.Field
	all     []command
	matches []command
	at      int
}

func openCommandLine(m *view.Model) {
	f := m.NewField(overview.Of(m), "command line", "do  ", "an action, by any part of its name", "")
	c := &commandLine{Field: f, all: commandsOf(m)}
	c.Input.ShowSuggestions = true
	c.match(m)
	m.Open(c)
}

func (c *commandLine) Update(m *view.Model, msg tea.Msg) {
	if c.Typed(m, msg) {
		c.match(m)
	}
}

// match finds the actions that match what is typed: the one that it names, or those whose names have its letters in the
// same order, and those whose descriptions contain it.
func (c *commandLine) match(m *view.Model) {
	c.at, c.Problem = 0, ""
	typed := c.Input.Value()
	name, rest, hasArgs := strings.Cut(typed, " ")
	c.Input.SetSuggestions(nil)
	if exact := slices.IndexFunc(c.all, func(o command) bool { return o.name == name }); exact >= 0 && hasArgs {
		c.matches = c.all[exact : exact+1]
		c.offer(m, typed, rest)
		return
	}
	if typed == "" {
		c.matches = c.all
		return
	}
	c.matches = nil
	for _, found := range fuzzy.FindFrom(typed, names(c.all)) {
		c.matches = append(c.matches, c.all[found.Index])
	}
	for _, o := range c.all { // by description
		has := func(k command) bool { return k.name == o.name }
		if strings.Contains(strings.ToLower(o.help), strings.ToLower(typed)) && !slices.ContainsFunc(c.matches, has) {
			c.matches = append(c.matches, o)
		}
	}
}

// offer suggests what may follow as the last word.
func (c *commandLine) offer(m *view.Model, typed, rest string) {
	o := c.matches[0]
	if o.offers == nil {
		return
	}
	last := rest[strings.LastIndexByte(rest, ' ')+1:]
	head := strings.TrimSuffix(typed, last)
	var all []string
	for _, word := range o.offers(m) {
		all = append(all, head+word)
	}
	if strings.HasPrefix(o.args, "PATH") {
		for _, path := range m.PathsLike(last) {
			all = append(all, head+path)
		}
	}
	c.Input.SetSuggestions(all)
}

type names []command

func (n names) String(i int) string { return n[i].name }
func (n names) Len() int            { return len(n) }

// choose selects another match.
func (c *commandLine) choose(by int) {
	c.at = max(0, min(c.at+by, len(c.matches)-1))
}

// complete writes the suggested word into the field, or else the selected action.
func (c *commandLine) complete(m *view.Model) {
	if suggested := c.Input.CurrentSuggestion(); suggested != "" {
		c.Fill(suggested)
	} else if len(c.matches) > 0 {
		c.Fill(c.matches[c.at].name + " ")
	}
	c.match(m)
}

// submit runs the selected action. On failure the field stays open and shows why.
func (c *commandLine) submit(m *view.Model) {
	if len(c.matches) == 0 {
		c.Problem = "no action has that in its name"
		return
	}
	o := c.matches[c.at]
	var args []string
	if name, rest, _ := strings.Cut(c.Input.Value(), " "); name == o.name {
		args = strings.Fields(rest)
	}
	if o.args == "" && len(args) > 0 {
		c.Problem = o.name + " takes nothing after it"
		return
	}
	m.Close()
	if err := o.do(m, args); err != nil {
		c.Problem = err.Error()
		c.Fill(o.name + " " + strings.Join(args, " "))
		m.Open(c)
	}
}

// Draw lists the actions instead of the stream.
func (c *commandLine) Draw(m *view.Model, width, height int) []string {
	return overview.UnderLanes(m, "commands", height, func(room int) []string {
		var rows []string
		first := view.Windowed(c.at, len(c.matches), room)
		for i := first; i < len(c.matches) && len(rows) < room; i++ {
			rows = append(rows, c.row(m, c.matches[i], i == c.at, width))
		}
		if len(c.matches) == 0 {
			rows = []string{cells.Fit(m.Palette.Dim.Render("  no action has that in its name"), width)}
		}
		return view.Pad(rows, room, width)
	})
}

func (c *commandLine) row(m *view.Model, o command, chosen bool, width int) string {
	mark, name := "  ", m.Palette.Text.Render(strings.TrimSpace(o.name+" "+o.args))
	if chosen {
		mark, name = m.Palette.Bright.Render("▸ "), m.Palette.Bright.Render(strings.TrimSpace(o.name+" "+o.args))
	}
	keys := 0
	for _, o := range c.all {
		keys = max(keys, ansi.StringWidth(o.keys))
	}
	return cells.Fit(mark+cells.Fit(name, min(34, width/2))+" "+
		m.Palette.Moving.Render(cells.Fit(o.keys, min(keys, width/6)))+" "+m.Palette.Dim.Render(o.help), width)
}

// commandsOf are all actions: those of keys, and those that take arguments.
func commandsOf(m *view.Model) []command {
	all := slices.Clone(ownCommands)
	for i := range m.Table {
		b := &m.Table[i]
		taken := func(o command) bool { return o.name == b.Action }
		if b.Action == "" || b.Action == "command-line" || slices.ContainsFunc(ownCommands, taken) {
			continue
		}
		o := command{
			name: b.Action,
			help: b.Name,
			keys: b.Shown(),
			do:   func(m *view.Model, _ []string) error { return act(m, b) },
		}
		if b.Group == view.GroupUnit {
			o.args, o.offers, o.do = "[UNIT ...]", unitNames,
				func(m *view.Model, units []string) error { return actOn(m, b, units) }
		}
		all = append(all, o)
	}
	for i := range all {
		if all[i].keys == "" {
			if b := slices.IndexFunc(m.Table, func(b view.Binding) bool { return b.Action == all[i].name }); b >= 0 {
				all[i].keys = m.Table[b].Shown()
			}
		}
	}
	slices.SortStableFunc(all, func(a, b command) int { return strings.Compare(a.name, b.name) })
	return all
}

func unitNames(m *view.Model) []string { return m.Names }

// act does what a binding does, if that is possible now.
func act(m *view.Model, b *view.Binding) error {
	if b.When != nil && !b.When(m) {
		return errors.New(b.Unless)
	}
	b.Do(m)
	return nil
}

// actOn does it for units, or for the selected one.
func actOn(m *view.Model, b *view.Binding, units []string) error {
	for _, name := range units {
		if m.Snap.Unit(name) == nil {
			return fmt.Errorf("there is no unit %q; %s", name, suggest.Hint(name, m.Snap.UnitNames()))
		}
	}
	if len(units) == 0 {
		return act(m, b)
	}
	for _, name := range units {
		m.Selected = name
		if err := act(m, b); err != nil {
			return err
		}
	}
	return nil
}

// ownCommands are actions that take arguments.
var ownCommands []command

func init() { // they refer to the list
	measures := func(*view.Model) []string {
		var all []string
		for _, measure := range timeline.Measures {
			all = append(all, string(measure))
		}
		return all
	}
	ownCommands = []command{
		{
			name:   "charts",
			args:   "[MEASURE]",
			help:   "charts of cpu, memory, output, durations, rest",
			offers: measures,
			do:     chartOf,
		},
		{
			name: "only", args: "[UNIT, GROUP or @SELECTION ...]", help: "run only these units, or everything again",
			offers: unitNames, do: onlyUnits,
		},
		{
			name: "save-selection", args: "NAME", help: "save the units found as @NAME in your own settings",
			offers: func(*view.Model) []string { return nil }, do: saveSelection,
		},
		{name: "select", args: "UNIT", help: "select a unit", offers: unitNames, do: chooseUnit},
		{
			name: "find-units",
			args: "[WORD ...]",
			help: "show units with a name, kind, state or group",
			do: func(m *view.Model, args []string) error {
				if len(args) == 0 {
					overview.FindUnits(m)
				}
				m.Filter = strings.Join(args, " ")
				return nil
			},
		},
		{name: "go-to", args: "TIME", help: "go to a time: 12:04, 12:04:31, 5m ago", do: goToTime},
		{
			name: "search",
			args: "[TEXT]",
			help: "search the output",
			do: func(m *view.Model, args []string) error {
				if len(args) == 0 {
					overview.SearchOutput(m)
					return nil
				}
				overview.Focused(m).Search(m, strings.Join(args, " "))
				return nil
			},
		},
		{
			name: "filter",
			args: "[FILTER]",
			help: "filter lines by text, unit, run or level",
			do: func(m *view.Model, args []string) error {
				if len(args) == 0 {
					overview.FilterOutput(m)
					return nil
				}
				f, err := query.Parse(strings.Join(args, " "))
				if err == nil {
					overview.Focused(m).Use(m, f)
				}
				return err
			},
		},
		{
			name:   "sort-lanes",
			args:   "[file, need or trouble]",
			help:   "order the lanes",
			offers: func(*view.Model) []string { return lanes.OrderNames[:] },
			do:     func(m *view.Model, args []string) error { return overview.Of(m).Lanes.OrderBy(m, args) },
		},
		{
			name: "ripples",
			args: "[NUMBER]",
			help: "ripples: what each save set off, as a waterfall",
			do:   rippleOf,
		},
		{name: "span", args: "TIME", help: "how much time is shown: 30s, 5m, 2h, 3d", do: spanOf},
		{
			name:   "what-if",
			args:   "PATH",
			help:   "what a save of a path would set off",
			offers: func(*view.Model) []string { return nil },
			do: func(m *view.Model, args []string) error {
				if len(args) != 1 {
					return errors.New("what-if takes one path")
				}
				mapview.ShowIfSaved(m, args[0])
				return nil
			},
		},
		{
			name:   "write-drawing",
			args:   "[PATH]",
			help:   "write the lanes, or the ripple, map or charts shown, as SVG or PDF",
			offers: func(*view.Model) []string { return nil },
			do: func(m *view.Model, args []string) error {
				if len(args) == 0 {
					askDrawing(m)
					return nil
				}
				return writeDrawing(m, strings.Join(args, " "))
			},
		},
	}
}

func chartOf(m *view.Model, args []string) error {
	measure := 0
	if len(args) > 0 {
		if measure = slices.Index(timeline.Measures, timeline.Measure(args[0])); measure < 0 {
			return fmt.Errorf("there is no chart of %s", args[0])
		}
	}
	charts.ShowMeasure(m, measure)
	return nil
}

func chooseUnit(m *view.Model, args []string) error {
	if name := strings.Join(args, " "); m.Snap.Unit(name) == nil {
		return fmt.Errorf("there is no unit %q; %s", name, suggest.Hint(name, m.Snap.UnitNames()))
	}
	m.Selected = args[0]
	return nil
}

func rippleOf(m *view.Model, args []string) error {
	if len(args) == 0 {
		ripples.Show(m)
		return nil
	}
	if len(args) == 1 {
		if n, err := strconv.Atoi(args[0]); err == nil && m.Snap.Ripple(n) != nil {
			ripples.ShowNumber(m, n)
			return nil
		}
	}
	return errors.New("ripples takes the number of one that is still known")
}

// goToTime goes to a time of the last 24 hours, or back by a duration.
func goToTime(m *view.Model, args []string) error {
	text := strings.Join(args, " ")
	if text == "now" {
		overview.BackToNow(m)
		return nil
	}
	if ago, ok := strings.CutSuffix(text, " ago"); ok {
		d, err := lengthOf(ago)
		if err == nil {
			overview.GoTo(m, m.Now.Add(-d))
		}
		return err
	}
	for _, layout := range []string{"15:04:05", "15:04"} {
		if t, err := time.ParseInLocation(layout, text, m.Now.Location()); err == nil {
			y, mo, d := m.Now.Date()
			at := time.Date(y, mo, d, t.Hour(), t.Minute(), t.Second(), 0, m.Now.Location())
			if at.After(m.Now) {
				at = at.AddDate(0, 0, -1)
			}
			overview.GoTo(m, at)
			return nil
		}
	}
	return fmt.Errorf("a time is written as 12:04, 12:04:31 or 5m ago, not %q", text)
}

// lengthOf parses a duration; "d" are days.
func lengthOf(text string) (time.Duration, error) {
	if days, ok := strings.CutSuffix(text, "d"); ok {
		if n, err := strconv.Atoi(days); err == nil {
			return time.Duration(n) * 24 * time.Hour, nil
		}
	}
	d, err := time.ParseDuration(strings.ReplaceAll(text, " ", ""))
	if err != nil || d <= 0 {
		return 0, fmt.Errorf("a duration is written as 30s, 5m, 2h or 3d, not %q", text)
	}
	return d, nil
}

// spanOf zooms to the smallest span that is not shorter than a duration.
func spanOf(m *view.Model, args []string) error {
	d, err := lengthOf(strings.Join(args, ""))
	if err != nil {
		return err
	}
	at := slices.IndexFunc(timeline.Spans, func(s time.Duration) bool { return s >= d })
	if at < 0 {
		at = len(timeline.Spans) - 1
	}
	m.Span = at
	return nil
}

// commandLineKeys are those of the command line.
var commandLineKeys = []view.Binding{
	{In: "command line", Keys: []string{"enter"}, Name: "do it", Hint: "do it", Group: view.GroupField,
		Do: view.On(func(m *view.Model, c *commandLine) { c.submit(m) })},
	{In: "command line", Keys: []string{"tab"}, Name: "complete", Hint: "complete", Group: view.GroupField,
		Do: view.On(func(m *view.Model, c *commandLine) { c.complete(m) })},
	{In: "command line", Keys: []string{"up"}, Name: "previous action", Hint: "select", Group: view.GroupField,
		Do: view.On(func(_ *view.Model, c *commandLine) { c.choose(-1) })},
	{In: "command line", Keys: []string{"down"}, Name: "next action", Group: view.GroupField,
		Do: view.On(func(_ *view.Model, c *commandLine) { c.choose(1) })},
	{In: "command line", Keys: []string{"esc", "ctrl+c"}, Name: "cancel", Hint: "cancel", Group: view.GroupField,
		Do: (*view.Model).Close},
}
