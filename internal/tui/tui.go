// Package tui is the full-screen face.
//
// One root model routes messages; it holds what the views share (the snapshot,
// the size, the time cursor) and each view holds only what is its own. A view
// turns a snapshot and a size into text; it decides nothing about the project.
package tui

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"

	"omnivigil/internal/concern"
	"omnivigil/internal/engine"
	"omnivigil/internal/logbook"
	"omnivigil/internal/usage"
	"omnivigil/internal/visible"
)

// Project is what the face shows and acts on: a session with its log.
type Project interface {
	Snapshot() *engine.Snapshot
	Uses() map[string]usage.Use
	Log() *logbook.Book
	Changed() (<-chan struct{}, func())
	Done() <-chan struct{}
	Request(r engine.Request, unit string)
	Why(path string) concern.Report
	WriteCure(unit string) error
	Note(text string)
}

// Run shows the session until it is done. When it returns an error the screen
// could not be shown; the session goes on.
func Run(s Project) error {
	program := tea.NewProgram(newModel(s), tea.WithoutSignalHandler(), tea.WithFPS(int(time.Second/frame)))
	_, err := program.Run()
	if errors.Is(err, tea.ErrProgramKilled) {
		return nil
	}
	return err
}

// model is the root: what all views share.
type model struct {
	session  Project
	snap     *engine.Snapshot
	began    time.Time
	now      time.Time
	at       time.Time // the time cursor; zero: at now
	width    int
	height   int
	palette  *palette
	styles   map[string]lipgloss.Style // of units
	uses     map[string]usage.Use
	names    []string
	lanes    lanes
	stream   stream
	question question
	loop     loop
	find     find
	pending  tea.Cmd // what a key's action leaves to be done
	help     bool
	helpTop  int

	laneTop, streamTop int // rows, as last drawn, for the mouse
}

func newModel(s Project) *model {
	m := &model{
		session: s, snap: s.Snapshot(), now: time.Now(), width: 80, height: 24,
		lanes: lanes{span: -1}, began: time.Now(), stream: stream{unit: logbook.All, bottom: -1}, question: newQuestion(), find: newFind(),
	}
	m.look(true)
	m.meetUnits()
	return m
}

// meetUnits gives colours to units that an edit of the settings has brought, and
// chooses another where the chosen one has gone.
func (m *model) meetUnits() {
	names := make([]string, len(m.snap.Units))
	for i, u := range m.snap.Units {
		names[i] = u.Name
	}
	if !slices.Equal(names, m.names) {
		m.names = names
		m.styles = m.palette.unitStyles(names)
	}
	if m.chosen() == nil && len(names) > 0 {
		m.lanes.unit = names[0]
	}
}

// look chooses the colours for a dark or a light ground.
func (m *model) look(dark bool) {
	m.palette = newPalette(dark)
	m.styles = m.palette.unitStyles(m.names)
}

func (m *model) unitStyle(name string) lipgloss.Style {
	if st, ok := m.styles[name]; ok {
		return st
	}
	return m.palette.dim
}

// Messages of the program itself.
type (
	changedMsg struct{} // the snapshot or the log is a new one
	tickMsg    struct{} // time has gone on
	doneMsg    struct{} // everything has ended
)

// frame is the least time between two looks at the session: thirty a second.
const frame = time.Second / 30

// Init begins to follow the session.
func (m *model) Init() tea.Cmd {
	return tea.Batch(m.follow(), m.tick(), m.waitForEnd(), tea.RequestBackgroundColor)
}

// follow waits until there is something new to show, at most once a frame.
func (m *model) follow() tea.Cmd {
	changed, stopChanged := m.session.Changed()
	grown, stopGrown := m.session.Log().Grown()
	last := m.snap
	return func() tea.Msg {
		defer stopChanged()
		defer stopGrown()
		if m.session.Snapshot() == last {
			select {
			case <-changed:
			case <-grown:
			case <-m.session.Done():
				return nil
			}
		}
		time.Sleep(frame)
		return changedMsg{}
	}
}

// tick lets the axis move: as often as its columns, at most ten times a second,
// while something moves; seldom otherwise, so that an idle screen costs nothing.
func (m *model) tick() tea.Cmd {
	pause := 2 * time.Second
	if m.snap.Verdict.Word == engine.VerdictUpdating {
		pause = max(min(m.axis().bucket, pause), 100*time.Millisecond)
	}
	return tea.Tick(pause, func(time.Time) tea.Msg { return tickMsg{} })
}

func (m *model) waitForEnd() tea.Cmd {
	return func() tea.Msg {
		<-m.session.Done()
		return doneMsg{}
	}
}

// Update handles one message.
func (m *model) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	m.now = time.Now()
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.width, m.height = msg.Width, msg.Height
	case tea.BackgroundColorMsg:
		m.look(msg.IsDark())
	case tea.KeyPressMsg:
		switch {
		case m.find.open:
			m.find.key(m, msg)
		case m.question.open:
			m.question.key(m, msg)
		case m.loop.open:
			m.loop.key(m, msg.String())
		default:
			m.press(msg.String())
		}
		cmd := m.pending
		m.pending = nil
		return m, cmd
	case tea.MouseMsg:
		m.mouse(msg)
	case changedMsg:
		m.snap, m.uses = m.session.Snapshot(), m.session.Uses()
		m.meetUnits()
		return m, m.follow()
	case tickMsg:
		m.uses = m.session.Uses()
		return m, m.tick()
	case doneMsg:
		return m, tea.Quit
	}
	return m, nil
}

// press does what a key stands for. Under the help the same keys move the help.
func (m *model) press(key string) {
	if m.help {
		switch key {
		case "esc":
			m.help = false
			return
		case "down", "j", "pgdown":
			m.helpTop++
			return
		case "up", "k", "pgup":
			m.helpTop--
			return
		}
	}
	if b := lookUp(key); b != nil && (b.when == nil || b.when(m)) {
		b.do(m)
	}
}

// View draws the screen.
func (m *model) View() tea.View {
	rows := m.screen()
	for i, row := range rows {
		// What others wrote acts on no terminal, wherever on the screen it has come to.
		if safe := visible.Styled(row); safe != row {
			rows[i] = fit(safe, m.width)
		}
	}
	v := tea.NewView(strings.Join(rows, "\n"))
	v.AltScreen = true
	v.WindowTitle = m.title()
	v.MouseMode = tea.MouseModeCellMotion
	return v
}

// smallest is the size below which nothing sensible can be drawn.
const smallestWidth, smallestHeight = 40, 8

func (m *model) screen() []string {
	if m.width < smallestWidth || m.height < smallestHeight {
		return pad([]string{fit(m.snap.Verdict.Word.String()+"  "+m.snap.Verdict.Text, m.width),
			fit(fmt.Sprintf("needs %dx%d cells", smallestWidth, smallestHeight), m.width)}, m.height, m.width)
	}
	rows := []string{m.verdictView(m.width)}
	if notices := m.notices(); len(notices) > 0 {
		rows = append(rows, notices...)
	} else if m.height >= 30 {
		rows = append(rows, "")
	}
	body := m.height - len(rows) - 1
	if m.help {
		rows = append(rows, m.helpView(m.width, body)...)
	} else {
		m.laneTop = len(rows) + 1
		upper := m.lanes.view(m, m.lanes.height(body))
		m.streamTop = len(rows) + len(upper)
		rows = append(rows, upper...)
		switch room := body - len(upper); {
		case m.question.open:
			rows = append(rows, m.question.view(m, room)...)
		case m.loop.open:
			rows = append(rows, m.loop.view(m, room)...)
		default:
			rows = append(rows, m.stream.view(m, room)...)
		}
	}
	return append(rows, m.hintsView(m.width))
}

// notices are what the person has to know beside the verdict, a row each; where there
// are more than have room, the last row says how many.
func (m *model) notices() []string {
	var all []string
	if m.snap.Settings != "" {
		problem, _, _ := strings.Cut(m.snap.Settings, "\n")
		all = append(all, m.palette.broken.Render("  settings  "+problem)+m.palette.dim.Render("  (those before are in use)"))
	}
	if err := errors.Join(m.stream.err, m.session.Log().Err()); err != nil {
		text, _, _ := strings.Cut(err.Error(), "\n")
		all = append(all, m.palette.broken.Render("  "+text))
	}
	if m.looping() != nil {
		all = append(all, m.loop.notice(m))
	}
	room := 1
	if m.height >= 20 {
		room = 3
	}
	if more := len(all) - room; more > 0 {
		all = all[:room]
		all[room-1] = fit(all[room-1], m.width-9) + m.palette.dim.Render(fmt.Sprintf(" +%d more", more))
	}
	for i := range all {
		all[i] = fit(all[i], m.width)
	}
	return all
}

// chosen is the unit that small letters act on.
func (m *model) chosen() *engine.Unit { return m.snap.Unit(m.lanes.unit) }

func (m *model) request(r engine.Request) { m.session.Request(r, m.lanes.unit) }

func (m *model) browse() {
	if err := usage.Browse(m.uses[m.lanes.unit].Endpoints[0]); err != nil {
		m.session.Note(err.Error())
	}
}

func (m *model) pauseOrResume() engine.Request {
	if u := m.chosen(); u != nil && u.Paused {
		return engine.ResumeUnit
	}
	return engine.PauseUnit
}

func (m *model) pauseOrResumeAll() engine.Request {
	if m.snap.Paused {
		return engine.ResumeAll
	}
	return engine.PauseAll
}

// quit stops everything in order; asked again, at once.
func (m *model) quit() {
	if m.snap.Quitting {
		m.session.Request(engine.QuitNow, "")
		return
	}
	m.session.Request(engine.Quit, "")
}
