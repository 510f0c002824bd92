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

// Model is what all views of a screen share, in parts. Only the program's loop uses it; work in the background gets
// what it needs as values.
type Model struct {
	outside
	scene
	appearance
	preferences
	messages
	asking
	recalled
	others
	sessions sessions
	Samples  samples
	Stack    []View // the lowest is the overview
}

// outside is what the screen talks to.
type outside struct {
	Ctx           context.Context
	Project       api.Project
	Terminal      func(taken bool) error                  // takes the terminal, or gives it back; may be nil
	Lend          func(run func() error) error            // gives the terminal to what runs
	SaveSelection func(name string, units []string) error // writes the personal file; may be nil
	Remember      func([]string)                          // called in the background with arguments that the user has typed; may be nil
}

// scene is what is shown: the project, at which time, and which of its units.
type scene struct {
	Snap     *api.Snapshot // the project as it is shown: at the time cursor, or the newest
	Live     *api.Snapshot // the newest
	Now      time.Time
	At       time.Time // the time cursor; zero: at now
	Selected string    // the unit that lowercase letters act on
	Filter   string    // only units that match it have lanes and charts; empty: all
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
	Names         []string                  // of all units
	Generation    int                       // changes with the styles
}

// preferences are what the user has set: in the personal file, or by a key.
type preferences struct {
	Table  []Binding
	Editor string // a command; empty: $VISUAL, $EDITOR
	// Selections are names of units and groups, by the name that the user gave to them, in lower case.
	Selections map[string][]string
	NoMouse    bool // the terminal has the mouse, for selecting text
	Beside     bool // a unit's terminal is shown next to the stream, not on the whole screen
}

// messages are what this screen reports to the user, and what the user has marked and typed in it.
type messages struct {
	Notice     string          // an error, until the next key
	Said       string          // a confirmation, until the next key
	Marks      map[LineID]bool // lines that the user has marked
	Trouble    *Trouble        // the current location of a failed test or a finding; nil: none
	TypedWords []string        // arguments that were added to commands, the newest last
}

// LineID identifies a line of the log of a session; empty: of the running one.
type LineID struct {
	Session string
	Number  int64
}

// Trouble is a location that a failed test or a finding names.
type Trouble struct {
	location.Location
	Unit, Text string
}

// asking is what has been asked of the project and the terminal.
type asking struct {
	Requests  []tea.Cmd     // requests to the project that have not been sent
	Actions   int           // how many of all requests are to change something
	Commands  []tea.Cmd     // commands for the terminal
	Listeners []tea.Cmd     // what waits for as long as a view is open
	Silent    time.Duration // how long the project has not answered; 0: it does
}

// Then is what the loop does with the result of work in the background; nil: nothing.
type Then func()

// NewModel returns a model that shows a project, with a view at the bottom of the stack.
func NewModel(ctx context.Context, project api.Project, first *api.Snapshot, lowest View) *Model {
	return &Model{
		outside:    outside{Ctx: ctx, Project: project},
		scene:      scene{Snap: first, Live: first, Now: time.Now(), Span: -1},
		appearance: appearance{Width: 80, Height: 24},
		messages:   messages{Marks: map[LineID]bool{}},
		Stack:      []View{lowest},
	}
}

// MeetUnits gives colors to units that an edit of the settings has added, and selects another unit if the selected one
// was removed.
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

// SetGround sets the colors for a background of the terminal. The user's theme overrides it.
func (m *Model) SetGround(of cells.Ground) {
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

// Later runs do in the background, and what it returns in the loop.
func (m *Model) Later(do func(context.Context) Then) {
	ctx := m.Ctx
	m.Requests = append(m.Requests, func() tea.Msg { return do(ctx) })
}

// Act is Later for a request that is to change something.
func (m *Model) Act(do func(context.Context) Then) {
	m.Actions++
	m.Later(do)
}

// Run runs a Bubble Tea command.
func (m *Model) Run(cmd tea.Cmd) { m.Commands = append(m.Commands, cmd) }

// Listen is Later for work that may wait for as long as a view is open.
func (m *Model) Listen(wait func() Then) {
	m.Listeners = append(m.Listeners, func() tea.Msg { return wait() })
}

// AskUnit requests an action on the selected unit.
func (m *Model) AskUnit(a api.Action) { m.Ask(a, m.Selected) }

// Ask requests an action on units or, without any, on the project.
func (m *Model) Ask(a api.Action, units ...string) { m.Send(api.Request{Action: a, Units: units}) }

// Send sends a request to the project, and shows a refusal.
func (m *Model) Send(r api.Request) {
	m.Act(func(ctx context.Context) Then {
		_, err := m.Project.Do(ctx, r)
		return m.Report(err)
	})
}

// Do is Send for a request whose answer is shown.
func (m *Model) Do(r api.Request) {
	m.Act(func(ctx context.Context) Then {
		answer, err := m.Project.Do(ctx, r)
		return func() {
			m.Said = answer.Text
			m.ShowError(err)
		}
	})
}

// ShowError shows why something that was requested was not done; nil: it was.
func (m *Model) ShowError(err error) {
	if err != nil && m.Ctx.Err() == nil {
		m.Notice = err.Error()
	}
}

// Report returns what shows an error in the loop.
func (m *Model) Report(err error) Then { return func() { m.ShowError(err) } }

// Saved shows why writing a file failed, or what was written.
func (m *Model) Saved(err error, done string) {
	if err != nil {
		m.Notice = fmt.Sprintf("the file was not written: %v", err)
		return
	}
	m.Said = done
}
