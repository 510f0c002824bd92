// Package typing shows a unit's terminal and types into it. It draws the cells that the project computes, and emulates
// no terminal itself. Start reading at Terminal.
package typing

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/cells"
	"omnivigil/internal/face/tui/overview"
	"omnivigil/internal/face/tui/view"
	"omnivigil/internal/output/terminal"
)

// Terminal is a unit's terminal, on the whole screen or next to the stream. While the user types into it, the program
// gets all keys except those that return. While another face types into it, and after the run has ended, it is only
// watched.
type Terminal struct {
	unit   string
	screen api.Screen // the newest contents, with all lines
	drawn  []string   // its lines as last drawn; empty: changed since
	width  int        // at which they were drawn
	beside bool       // next to the stream
	asked  bool       // the user wants to type, not only to watch
	size   api.Size   // that the program was last told

	ctx     context.Context
	stop    func()
	screens chan shown
	inputs  chan api.Input

	left, top, first int // the place of the first cell on the screen, and its row in the terminal
}

// shown is a new screen of the terminal, or an error; over: there will be no other.
type shown struct {
	screen api.Screen
	err    error
	over   bool
}

// maxInputs limits the inputs that wait for a project that does not answer.
const maxInputs = 1000

// open opens the selected unit's terminal.
func open(m *view.Model) {
	v := &Terminal{unit: m.SelectedUnit().Name, beside: m.Beside}
	m.Open(v)
	v.begin(m, true, false)
}

// canType reports whether the selected unit has a running process that can read input.
func canType(m *view.Model) bool {
	u := m.SelectedUnit()
	return u != nil && u.Kind != "relay" &&
		slices.Contains([]api.State{api.Setup, api.Starting, api.Ready, api.Running, api.Stopping}, u.State)
}

// hasTerminal reports whether the selected unit has a terminal, or the last screen of one.
func hasTerminal(m *view.Model) bool {
	u := m.SelectedUnit()
	return u != nil && u.Kind != "relay" && u.Run.Number > 0
}

// begin follows the terminal, to type or only to watch. With take it takes over from another face.
func (v *Terminal) begin(m *view.Model, hand, take bool) {
	v.end()
	v.asked, v.size = hand, v.place(m)
	ctx, stop := context.WithCancel(m.Ctx)
	screens, inputs := make(chan shown), make(chan api.Input, maxInputs)
	v.ctx, v.stop, v.screens, v.inputs = ctx, stop, screens, inputs
	send := func(msg shown) error {
		select {
		case screens <- msg:
			return nil
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	q := api.ScreenQuery{
		Unit: v.unit,
		Face: api.Face{Kind: view.Kind, PID: os.Getpid()},
		Hand: hand,
		Take: take,
		Size: v.size.Bounded(),
	}
	project := m.Project
	go func() {
		err := project.FollowScreen(ctx, q, func(s api.Screen) error { return send(shown{screen: s}) })
		send(shown{err: err, over: true})
	}()
	go func() { // in the order in which they were typed
		defer stop()
		for in := range inputs {
			if err := project.Input(ctx, in); err != nil && send(shown{err: err}) != nil {
				return
			}
		}
	}()
	v.next(m)
	v.give(m, api.Input{Focus: "in"})
}

// next waits for the next screen.
func (v *Terminal) next(m *view.Model) {
	screens, over := v.screens, v.ctx.Done()
	m.Listen(func() view.Then {
		select {
		case s := <-screens:
			return func() { v.take(m, s) }
		case <-over:
			return nil
		}
	})
}

// end stops following, after the program has got what was typed.
func (v *Terminal) end() {
	if v.inputs != nil {
		close(v.inputs)
		v.inputs = nil
	}
}

// Closed lets go of the terminal when the view is closed.
func (v *Terminal) Closed(m *view.Model) {
	v.give(m, api.Input{Focus: "out"})
	v.end()
}

// mine reports whether this is the face that types into it.
func (v *Terminal) mine() bool { return v.screen.Hand != nil && v.screen.Hand.PID == os.Getpid() }

// types reports whether the program gets the keys.
func (v *Terminal) types() bool { return v.asked && v.mine() && !v.screen.Ended }

// give sends an input to the program.
func (v *Terminal) give(m *view.Model, in api.Input) {
	if v.inputs == nil || !v.asked {
		return
	}
	in.Unit, in.Face = v.unit, os.Getpid()
	select {
	case v.inputs <- in:
	default:
		m.Notice = "the project does not read what is typed"
	}
}

func (*Terminal) Name() string { return "terminal" }

// Grabs returns true: even when the program gets no keys, the overview must not get them.
func (*Terminal) Grabs(*view.Model) bool { return true }

// TakesKeys implements view.Taker.
func (v *Terminal) TakesKeys(*view.Model) bool { return v.types() }

// Ask tells the program when the size of its place has changed.
func (v *Terminal) Ask(m *view.Model) {
	if size := v.place(m); v.types() && size != v.size {
		v.size = size
		v.give(m, api.Input{Size: &size})
	}
}

func (v *Terminal) Update(m *view.Model, msg tea.Msg) {
	switch msg := msg.(type) {
	case tea.KeyPressMsg:
		v.key(m, msg)
	case tea.PasteMsg:
		if v.types() {
			v.give(m, api.Input{Text: msg.Content, Paste: true})
		}
	case tea.MouseMsg:
		v.mouse(m, msg)
	case tea.FocusMsg:
		v.give(m, api.Input{Focus: "in"})
	case tea.BlurMsg:
		v.give(m, api.Input{Focus: "out"})
	}
}

func (v *Terminal) take(m *view.Model, s shown) {
	switch {
	case !m.IsOnStack(v):
		return
	// another face is typing into it, or there is nothing to see
	case s.over && v.asked && v.screen.Run == 0 && s.err != nil:
		v.begin(m, false, false)
		return
	case s.over:
		m.Close()
		m.ShowError(s.err)
		return
	case s.err != nil:
		m.ShowError(s.err)
	default:
		v.merge(s.screen)
	}
	v.next(m)
}

// merge updates the lines that have changed.
func (v *Terminal) merge(s api.Screen) {
	lines := slices.Clone(v.screen.Lines)
	if s.Run != v.screen.Run || s.Size != v.screen.Size {
		lines, v.drawn = make([]api.ScreenLine, s.Size.Rows), make([]string, s.Size.Rows)
	}
	for _, line := range s.Lines {
		if line.Row >= 0 && line.Row < len(lines) {
			lines[line.Row], v.drawn[line.Row] = line, ""
		}
	}
	v.screen = s
	v.screen.Lines = lines
}

func (v *Terminal) key(m *view.Model, key tea.KeyPressMsg) {
	if !v.types() {
		return
	}
	if key.Text != "" && key.Mod&^tea.ModShift == 0 {
		v.give(m, api.Input{Text: key.Text})
		return
	}
	v.give(m, api.Input{Keys: []string{key.Keystroke()}})
}

var mouseButtons = map[tea.MouseButton]string{
	tea.MouseLeft:      "left",
	tea.MouseMiddle:    "middle",
	tea.MouseRight:     "right",
	tea.MouseWheelUp:   "wheel-up",
	tea.MouseWheelDown: "wheel-down",
}

// mouse sends the program what happens in its cells, if it asked for the mouse. Otherwise the wheel presses arrow
// keys in a program that draws the whole screen.
func (v *Terminal) mouse(m *view.Model, msg tea.MouseMsg) {
	at := msg.Mouse()
	col, row := at.X-v.left, at.Y-v.top+v.first
	_, click := msg.(tea.MouseClickMsg)
	_, wheel := msg.(tea.MouseWheelMsg)
	switch {
	case click && at.Y == v.top-1 && at.X >= v.left:
		m.Close()
		return
	case !v.types() || col < 0 || row < 0 || col >= v.screen.Size.Cols || row >= v.screen.Size.Rows:
		return
	case v.screen.Mouse == "" && wheel && v.screen.Drawing:
		arrow := "down"
		if at.Button == tea.MouseWheelUp {
			arrow = "up"
		}
		v.give(m, api.Input{Keys: []string{arrow, arrow, arrow}})
		return
	case v.screen.Mouse == "":
		return
	}
	does := "press"
	switch msg.(type) {
	case tea.MouseReleaseMsg:
		does = "release"
	case tea.MouseMotionMsg:
		does = "move"
	}
	v.give(m, api.Input{Mouse: &api.Mouse{
		Does: does, Button: mouseButtons[at.Button], Col: col, Row: row,
		Shift: at.Mod.Contains(tea.ModShift), Alt: at.Mod.Contains(tea.ModAlt), Ctrl: at.Mod.Contains(tea.ModCtrl),
	}})
}

// place is the size of the terminal's place. It does not change with the notices, which come and go.
func (v *Terminal) place(m *view.Model) api.Size {
	above := 1
	if m.Height >= 30 {
		above = 2
	}
	width, height := v.share(m.Width, m.Height-above-1)
	return api.Size{Cols: max(width, 2), Rows: max(height-1, 1)}
}

// share returns the terminal's part of the room, with its title line.
func (v *Terminal) share(width, height int) (int, int) {
	switch {
	case !v.beside:
		return width, height
	case width >= overview.WideEnough:
		return width * 3 / 5, height
	}
	return width, height - max(height/3, 3)
}

func (v *Terminal) Draw(m *view.Model, width, height int) []string {
	w, h := v.share(width, height)
	rows := append([]string{v.rule(m, w)}, v.cells(m, w, h-1)...)
	switch {
	case !v.beside:
		return rows
	case w < width:
		right := append(
			[]string{m.TitledRule(overview.Focused(m).Title(), width-w-1)},
			overview.Focused(m).Draw(m, width-w-1, height-1)...)
		for i := range rows {
			rows[i] += m.Palette.Faint.Render("│") + right[i]
		}
		return rows
	}
	rows = append(rows, m.TitledRule(overview.Focused(m).Title(), width))
	return append(rows, overview.Focused(m).Draw(m, width, height-len(rows))...)
}

// cells draws the terminal: from its first row or, if it is larger than its place, the rows up to the cursor.
func (v *Terminal) cells(m *view.Model, width, height int) []string {
	v.left, v.top, v.first = 0, m.BodyTop+1, 0
	if over := v.screen.Cursor.Row - height + 1; over > 0 {
		v.first = over
	}
	if width != v.width {
		v.width = width
		clear(v.drawn)
	}
	var rows []string
	for i := v.first; i < len(v.screen.Lines) && len(rows) < height; i++ {
		if v.drawn[i] == "" {
			cols := min(width, v.screen.Size.Cols)
			v.drawn[i] = terminal.Draw(v.screen.Lines[i], cols, true) + strings.Repeat(" ", width-cols)
		}
		rows = append(rows, v.drawn[i])
	}
	if v.screen.Run == 0 {
		rows = append(rows, cells.Fit(m.Palette.Dim.Render("  waiting for the terminal"), width))
	}
	return view.Pad(rows, height, width)
}

// rule is the title line: whose terminal this is, and how to return.
func (v *Terminal) rule(m *view.Model, width int) string {
	way := m.KeyOf("return")
	text := fmt.Sprintf("typing into %s", v.unit)
	switch hand := v.screen.Hand; {
	case v.screen.Run == 0:
	case v.screen.Ended:
		text, way = fmt.Sprintf("%s run %d has ended; this is its last screen", v.unit, v.screen.Run), "esc goes back"
	case v.mine() && v.asked:
		way += " to return"
		if v.screen.Title != "" {
			text += ": " + v.screen.Title
		}
	case hand != nil:
		text, way = fmt.Sprintf(
			"watching %s: %s is typing into it",
			v.unit,
			cmp.Or(map[string]string{view.Kind: "another screen"}[hand.Kind], hand.Kind),
		), "enter takes over"
	default:
		text, way = "watching "+v.unit, "enter types into it"
	}
	s := cells.NewStrip(width, "─", &m.Palette.Faint)
	style := m.Palette.Bright
	s.Write(1, " "+cells.Fit(text, min(max(width-len(way)-8, 4), len([]rune(text))))+" ", &style)
	s.Write(max(width-len(way)-4, 1), " "+way+" ", &style)
	return s.String()
}

// cursor is the program's cursor on the user's terminal, or nil.
func (v *Terminal) cursor(width, height int) *tea.Cursor {
	at := v.screen.Cursor
	x, y := v.left+at.Col, v.top+at.Row-v.first
	if !v.types() || at.Hidden || x >= width || y >= height-1 {
		return nil
	}
	c := tea.NewCursor(x, y)
	c.Blink = !at.Steady
	switch at.Shape {
	case "bar":
		c.Shape = tea.CursorBar
	case "underline":
		c.Shape = tea.CursorUnderline
	default:
		c.Shape = tea.CursorBlock
	}
	return c
}

// Frame implements view.Framer with what the program asks of its terminal.
func (v *Terminal) Frame(m *view.Model, on *tea.View) {
	on.Cursor = v.cursor(m.Width, m.Height)
	on.ReportFocus = true
	if v.screen.Mouse == "all" && !m.NoMouse {
		on.MouseMode = tea.MouseModeAllMotion
	}
}

// onTop returns the terminal that is shown, or nil.
func onTop(m *view.Model) *Terminal {
	v, _ := m.Top().(*Terminal)
	return v
}

// isWatched reports whether a terminal is shown whose program gets no keys.
func isWatched(m *view.Model) bool { v := onTop(m); return v != nil && !v.types() }

// Keys are for the selected unit's terminal, in every view.
var Keys = []view.Binding{
	{Keys: []string{"i"}, Action: "answer", Name: "type a line into its terminal, such as an answer",
		Hint: "answer", Group: view.GroupUnit, When: canType, First: asks,
		Unless: "it is not running", Do: openAnswer},
	{Keys: []string{"h"}, Action: "type-into", Name: "type into its terminal, or see its last screen",
		Hint: "type into it", Group: view.GroupUnit, When: hasTerminal, First: asks,
		Unless: "it has not run yet", Do: open},
}

// Bindings are those of a terminal, where the program gets all other keys, and of the field for an answer.
var Bindings = []view.Binding{
	{
		In:     "terminal",
		Keys:   []string{"f12"},
		Action: "return",
		Name:   "return to the screen",
		Hint:   "return",
		Group:  view.GroupTerminal,
		Do:     (*view.Model).Close,
	},
	{
		In:     "terminal",
		Keys:   []string{"shift+f12", "f24"},
		Action: "terminal-beside",
		Name:   "full screen, or next to the stream",
		Hint:   "next to the stream",
		Group:  view.GroupTerminal,
		Do:     view.On(func(m *view.Model, v *Terminal) { v.beside = !v.beside; m.Beside = v.beside }),
	},
	{
		In:    "terminal",
		Keys:  []string{"esc", "q"},
		Name:  "back",
		Hint:  "back",
		Group: view.GroupTerminal,
		When:  isWatched,
		Do:    (*view.Model).Close,
	},
	{
		In:    "terminal",
		Keys:  []string{"enter"},
		Name:  "take it over from another screen",
		Hint:  "type into it",
		Group: view.GroupTerminal,
		When:  func(m *view.Model) bool { return isWatched(m) && !onTop(m).screen.Ended },
		Do:    view.On(func(m *view.Model, v *Terminal) { v.begin(m, true, true) }),
	},
	{
		In:    "terminal",
		Keys:  []string{"r"},
		Name:  "restart or rerun the unit",
		Hint:  "restart",
		Group: view.GroupTerminal,
		When:  func(m *view.Model) bool { return isWatched(m) && onTop(m).screen.Ended },
		Do:    view.On(func(m *view.Model, v *Terminal) { m.Ask(api.Restart, v.unit) }),
	},
	{In: "answer", Keys: []string{"enter"}, Name: "type it", Hint: "type", Group: view.GroupField,
		Do: view.On(func(m *view.Model, f *answerField) { f.submit(m) })},
	{In: "answer", Keys: []string{"esc", "ctrl+c"}, Name: "cancel", Hint: "cancel", Group: view.GroupField,
		Do: (*view.Model).Close},
}
