package tui

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

// model is what all views of a screen share, in parts. It belongs to the loop of the program: only what later runs
// runs elsewhere.
type model struct {
	outside
	scene
	appearance
	preferences
	messages
	asking
	samples samples
	stack   []view // the lowest is the overview
}

// outside is what the screen talks to.
type outside struct {
	ctx      context.Context
	project  api.Project
	terminal func(taken bool) // called when the screen takes the terminal and when it gives it back; nil: not
	remember func([]string)   // called in the background with the arguments that were typed; nil: not
}

// scene is what is shown: the project, which time of it, and which units.
type scene struct {
	snap     *api.Snapshot
	now      time.Time
	at       time.Time // the time cursor; zero: at now
	selected string    // the unit that lowercase letters act on
	filter   string    // only units that match it have lanes and charts
	span     int       // of the axis, an index into timeline.Spans; -1 until the user has zoomed
}

// appearance is the size of the terminal, and the colors that it can show.
type appearance struct {
	width, height int
	bodyTop       int // the first row below the verdict and the notices
	theme         string
	ground        cells.Ground // of the terminal
	profile       colorprofile.Profile
	palette       *cells.Palette
	styles        map[string]lipgloss.Style // of units
	names         []string                  // of the units that have a style
	generation    int                       // of the styles
}

// preferences are what the user has set: in the personal file, or by a key.
type preferences struct {
	table   []binding
	editor  string // a command; empty: $VISUAL, $EDITOR
	noMouse bool   // the terminal has the mouse, for selecting text
	beside  bool   // a unit's terminal is shown next to the stream, not on the whole screen
}

// messages are what this screen reports to the user, and what the user has marked and typed in it.
type messages struct {
	notice     string         // what went wrong, until the next key
	said       string         // what went well, until the next key
	marks      map[int64]bool // lines that the user has marked
	trouble    *trouble       // the current location of a failed test or a finding; nil: none
	typedWords []string       // arguments that were added to commands, the newest last
}

// trouble is a location that a failed test or a finding names.
type trouble struct {
	location.Location
	unit, text string
}

// asking is what has been asked of the project and the terminal.
type asking struct {
	pending   []tea.Cmd     // requests to the project that have not been sent
	cmds      []tea.Cmd     // commands for the terminal
	listening []tea.Cmd     // what waits for as long as something goes on
	silent    time.Duration // how long the project has not answered; 0: it does
}

// then is what to do in the loop with the answer to something done in the background; nil: nothing.
type then func()

// newModel returns a model that shows a project, with a view at the bottom of the stack.
func newModel(ctx context.Context, project api.Project, first *api.Snapshot, lowest view) *model {
	return &model{
		outside:    outside{ctx: ctx, project: project},
		scene:      scene{snap: first, now: time.Now(), span: -1},
		appearance: appearance{width: 80, height: 24},
		messages:   messages{marks: map[int64]bool{}},
		stack:      []view{lowest},
	}
}

// meetUnits gives colors to units that an edit of the settings has added, and selects another where the selected one
// has been removed.
func (m *model) meetUnits() {
	names := make([]string, len(m.snap.Units))
	for i, u := range m.snap.Units {
		names[i] = u.Name
	}
	if !slices.Equal(names, m.names) {
		m.names = names
		m.applyStyles()
	}
	if m.selectedUnit() == nil && len(names) > 0 {
		m.selected = names[0]
	}
}

// look sets the colors for the terminal's background, or for the one that the user has set.
func (m *model) look(of cells.Ground) {
	m.ground = of
	switch m.theme {
	case "dark":
		of = cells.DarkGround
	case "light":
		of = cells.LightGround
	}
	m.palette = cells.NewPalette(of, m.profile)
	m.applyStyles()
}

func (m *model) applyStyles() {
	m.styles = m.palette.UnitStyles(m.names)
	m.generation++
}

func (m *model) unitStyle(name string) lipgloss.Style {
	if st, ok := m.styles[name]; ok {
		return st
	}
	return m.palette.Dim
}

// selectedUnit returns the selected unit, or nil.
func (m *model) selectedUnit() *api.Unit { return m.snap.Unit(m.selected) }

// shownTime is the time that the screen shows.
func (m *model) shownTime() time.Time {
	if m.at.IsZero() {
		return m.now
	}
	return m.at
}

// later does something in the background. What do returns is called in the loop.
func (m *model) later(do func(context.Context) then) {
	ctx := m.ctx
	m.pending = append(m.pending, func() tea.Msg { return do(ctx) })
}

// run has the program run a command of Bubble Tea.
func (m *model) run(cmd tea.Cmd) { m.cmds = append(m.cmds, cmd) }

// listen is later for what may wait for as long as a view is open.
func (m *model) listen(wait func() then) {
	m.listening = append(m.listening, func() tea.Msg { return wait() })
}

// request asks for something, of the selected unit.
func (m *model) request(a api.Action) { m.ask(a, m.selected) }

// ask asks for something, of units or of the project.
func (m *model) ask(a api.Action, units ...string) { m.askFor(api.Request{Action: a, Units: units}) }

// askFor sends a request to the project. A refusal is shown.
func (m *model) askFor(r api.Request) {
	m.later(func(ctx context.Context) then {
		_, err := m.project.Do(ctx, r)
		return m.report(err)
	})
}

// asked shows why something that was asked for was not done.
func (m *model) asked(err error) {
	if err != nil && m.ctx.Err() == nil {
		m.notice = err.Error()
	}
}

// report returns asked for the loop.
func (m *model) report(err error) then { return func() { m.asked(err) } }

// saved shows why writing a file failed, or what was written.
func (m *model) saved(err error, done string) {
	if err != nil {
		m.notice = fmt.Sprintf("the file was not written: %v", err)
		return
	}
	m.said = done
}
