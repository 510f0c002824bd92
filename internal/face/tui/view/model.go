package view

import (
	"context"
	"fmt"
	"slices"
	"time"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/colorprofile"

	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/cells"
	"omnivigil/internal/text/location"
)

// Kind is what this face calls itself.
const Kind = "screen"

// Model is what all views of a screen share, in parts. It belongs to the loop of the program: only what later runs
// runs elsewhere.
type Model struct {
	outside
	scene
	appearance
	preferences
	messages
	asking
	Samples samples
	Stack   []View // the lowest is the overview
}

// outside is what the screen talks to.
type outside struct {
	Ctx      context.Context
	Project  api.Project
	Terminal func(taken bool) // called when the screen takes the terminal and when it gives it back; nil: not
	Remember func([]string)   // called in the background with the arguments that were typed; nil: not
}

// scene is what is shown: the project, which time of it, and which units.
type scene struct {
	Snap     *api.Snapshot
	Now      time.Time
	At       time.Time // the time cursor; zero: at now
	Selected string    // the unit that lowercase letters act on
	Filter   string    // only units that match it have lanes and charts
	Span     int       // of the axis, an index into timeline.Spans; -1 until the user has zoomed
}

// appearance is the size of the terminal, and the colors that it can show.
type appearance struct {
	Width, Height int
	BodyTop       int // the first row below the verdict and the notices
	Theme         string
	Ground        cells.Ground // of the terminal
	Profile       colorprofile.Profile
	Palette       *cells.Palette
	styles        map[string]lipgloss.Style // of units
	Names         []string                  // of the units that have a style
	Generation    int                       // of the styles
}

// preferences are what the user has set: in the personal file, or by a key.
type preferences struct {
	Table   []Binding
	Editor  string // a command; empty: $VISUAL, $EDITOR
	NoMouse bool   // the terminal has the mouse, for selecting text
	Beside  bool   // a unit's terminal is shown next to the stream, not on the whole screen
}

// messages are what this screen reports to the user, and what the user has marked and typed in it.
type messages struct {
	Notice     string         // what went wrong, until the next key
	Said       string         // what went well, until the next key
	Marks      map[int64]bool // lines that the user has marked
	Trouble    *Trouble       // the current location of a failed test or a finding; nil: none
	TypedWords []string       // arguments that were added to commands, the newest last
}

// Trouble is a location that a failed test or a finding names.
type Trouble struct {
	location.Location
	Unit, Text string
}

// asking is what has been asked of the project and the terminal.
type asking struct {
	Requests  []tea.Cmd     // requests to the project that have not been sent
	Commands  []tea.Cmd     // commands for the terminal
	Listeners []tea.Cmd     // what waits for as long as something goes on
	Silent    time.Duration // how long the project has not answered; 0: it does
}

// Then is what to do in the loop with the answer to something done in the background; nil: nothing.
type Then func()

// NewModel returns a model that shows a project, with a view at the bottom of the stack.
func NewModel(ctx context.Context, project api.Project, first *api.Snapshot, lowest View) *Model {
	return &Model{
		outside:    outside{Ctx: ctx, Project: project},
		scene:      scene{Snap: first, Now: time.Now(), Span: -1},
		appearance: appearance{Width: 80, Height: 24},
		messages:   messages{Marks: map[int64]bool{}},
		Stack:      []View{lowest},
	}
}

// MeetUnits gives colors to units that an edit of the settings has added, and selects another where the selected one
// has been removed.
func (m *Model) MeetUnits() {
	names := make([]string, len(m.Snap.Units))
	for i, u := range m.Snap.Units {
		names[i] = u.Name
	}
	if !slices.Equal(names, m.Names) {
		m.Names = names
		m.applyStyles()
	}
	if m.SelectedUnit() == nil && len(names) > 0 {
		m.Selected = names[0]
	}
}

// Look sets the colors for the terminal's background, or for the one that the user has set.
func (m *Model) Look(of cells.Ground) {
	m.Ground = of
	switch m.Theme {
	case "dark":
		of = cells.DarkGround
	case "light":
		of = cells.LightGround
	}
	m.Palette = cells.NewPalette(of, m.Profile)
	m.applyStyles()
}

func (m *Model) applyStyles() {
	m.styles = m.Palette.UnitStyles(m.Names)
	m.Generation++
}

func (m *Model) UnitStyle(name string) lipgloss.Style {
	if st, ok := m.styles[name]; ok {
		return st
	}
	return m.Palette.Dim
}

// SelectedUnit returns the selected unit, or nil.
func (m *Model) SelectedUnit() *api.Unit { return m.Snap.Unit(m.Selected) }

// ShownTime is the time that the screen shows.
func (m *Model) ShownTime() time.Time {
	if m.At.IsZero() {
		return m.Now
	}
	return m.At
}

// Later does something in the background. What do returns is called in the loop.
func (m *Model) Later(do func(context.Context) Then) {
	ctx := m.Ctx
	m.Requests = append(m.Requests, func() tea.Msg { return do(ctx) })
}

// Run has the program run a command of Bubble Tea.
func (m *Model) Run(cmd tea.Cmd) { m.Commands = append(m.Commands, cmd) }

// Listen is later for what may wait for as long as a view is open.
func (m *Model) Listen(wait func() Then) {
	m.Listeners = append(m.Listeners, func() tea.Msg { return wait() })
}

// TellTerminal reports that the screen takes the terminal, or gives it back.
func (m *Model) TellTerminal(taken bool) {
	if m.Terminal != nil {
		m.Terminal(taken)
	}
}

// AskUnit asks for something, of the selected unit.
func (m *Model) AskUnit(a api.Action) { m.Ask(a, m.Selected) }

// Ask asks for something, of units or of the project.
func (m *Model) Ask(a api.Action, units ...string) { m.Send(api.Request{Action: a, Units: units}) }

// Send sends a request to the project. A refusal is shown.
func (m *Model) Send(r api.Request) {
	m.Later(func(ctx context.Context) Then {
		_, err := m.Project.Do(ctx, r)
		return m.Report(err)
	})
}

// ShowError shows why something that was asked for was not done.
func (m *Model) ShowError(err error) {
	if err != nil && m.Ctx.Err() == nil {
		m.Notice = err.Error()
	}
}

// Report returns asked for the loop.
func (m *Model) Report(err error) Then { return func() { m.ShowError(err) } }

// Saved shows why writing a file failed, or what was written.
func (m *Model) Saved(err error, done string) {
	if err != nil {
		m.Notice = fmt.Sprintf("the file was not written: %v", err)
		return
	}
	m.Said = done
}
