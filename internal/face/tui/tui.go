// Package tui is the full screen.
//
// One root model routes messages. It holds what the views share (the project, its newest snapshot, the size, the time
// cursor), and each view holds only its own state. A view turns a snapshot and a size into text; it decides nothing
// about the project and asks for what it needs through commands, so that drawing never waits. Start reading at
// Screen, model and view.
package tui

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/colorprofile"

	"omnivigil/internal/api"
	"omnivigil/internal/face/timeline"
	"omnivigil/internal/face/tui/cells"
	"omnivigil/internal/process/browser"
	"omnivigil/internal/text/escape"
)

// Screen is a full screen on a project.
type Screen struct {
	Project api.Project
	First   *api.Snapshot // the project as it was last seen
	// Terminal, if set, is told when the terminal is taken and when it is given back, as
	// while the screen is suspended.
	Terminal func(taken bool)
	// Habits are those of the user, with what is wrong with their file. HabitsNow, if set, is
	// asked now and then whether these have changed.
	Habits    Habits
	Problems  []string
	HabitsNow func() (h Habits, problems []string, changed bool)
	// Words are what was added to commands before, the newest last. Remember, if set, is called
	// with them when there are others; it may block.
	Words    []string
	Remember func(words []string)

	program *tea.Program
	out     *output
	model   *model
}

// kind is what this face calls itself.
const kind = "screen"

// framesDrawn is how often in a second the terminal is drawn to at most. It is more often
// than there are snapshots, so that what a key does is seen soon.
const framesDrawn = 2 * api.MaxFrames

// Run shows the project until it has ended or the user closes the screen, or until the
// context is done. It returns how the project was when it was last seen. The error says why
// the screen could not be shown, or api.ErrLost that the supervisor is gone.
func (s *Screen) Run(ctx context.Context) (*api.Snapshot, error) {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	s.model = newModel(ctx, s.Project, s.First)
	s.model.terminal, s.model.habitsNow = s.Terminal, s.HabitsNow
	s.model.adopt(s.Habits, s.Problems)
	s.model.typedWords, s.model.remember = s.Words, s.Remember
	s.model.redraw = s.redraw
	s.out = &output{File: os.Stdout}
	s.program = tea.NewProgram(
		s.model,
		tea.WithOutput(s.out),
		tea.WithoutSignalHandler(),
		tea.WithFPS(framesDrawn),
		tea.WithContext(ctx),
	)
	s.told(true)
	defer s.told(false)
	go s.follow(ctx)
	go api.WatchSilence(ctx, s.Project, func(silent time.Duration) { s.program.Send(silentMsg(silent)) })
	_, err := s.program.Run()
	switch {
	case s.model.lost != nil:
		err = s.model.lost
	case errors.Is(err, tea.ErrProgramKilled), errors.Is(err, context.Canceled):
		err = nil
	}
	return s.model.snap, err
}

func (s *Screen) told(taken bool) {
	if s.Terminal != nil {
		s.Terminal(taken)
	}
}

// follow hands the project on as it changes.
func (s *Screen) follow(ctx context.Context) {
	err := s.Project.Follow(ctx, api.Face{Kind: kind, PID: os.Getpid()}, func(snap *api.Snapshot) error {
		s.program.Send(snap)
		return nil
	})
	s.program.Send(endMsg{err})
}

// model is the root: what all views share, in parts.
type model struct {
	outside
	scene
	appearance
	preferences
	messages
	asking
	samples samples
	picture

	away     away
	stack    []view
	overview overview
}

// outside is what the screen talks to.
type outside struct {
	ctx       context.Context
	project   api.Project
	terminal  func(taken bool)
	clock     func() time.Time
	remember  func([]string)
	redraw    func(context.Context) // draws all again after another program has had the terminal
	habitsNow func() (Habits, []string, bool)
}

// scene is what is shown: the project, of what time, and which unit is selected.
type scene struct {
	snap     *api.Snapshot
	now      time.Time
	at       time.Time // the time cursor; zero: at now
	selected string    // the unit that lowercase letters act on
	filter   string    // only units that match it have lanes and charts
	span     int       // of the axis, an index into timeline.Spans; -1 until the user has zoomed
}

// appearance is how the terminal is, and what that makes of colors.
type appearance struct {
	width, height int
	bodyTop       int          // the first row below the verdict and the notices
	ground        cells.Ground // of the terminal
	profile       colorprofile.Profile
	palette       *cells.Palette
	styles        map[string]lipgloss.Style // of units
	names         []string                  // of the units that have a style
	generation    int                       // of the styles
}

// preferences are what the user likes to have.
type preferences struct {
	table   []binding
	habits  Habits
	own     string // what is wrong with the user's own file
	noMouse bool   // it is the terminal's, for selecting text
	beside  bool   // a unit's terminal is shown next to the stream, not on the whole screen
}

// messages are what the user reads, has marked and has typed.
type messages struct {
	notice     string         // what the user has to know of this face, until another key
	said       string         // the same, of what went well
	marks      map[int64]bool // lines that the user has marked
	trouble    *trouble       // the current location of a failed test or a finding; nil: none
	typedWords []string       // that were added to commands, the newest last
}

// asking is what is under way with the project and the terminal.
type asking struct {
	pending   []tea.Cmd     // what is left to be asked of the project
	cmds      []tea.Cmd     // and of the terminal
	listening []tea.Cmd     // what is waited for
	silent    time.Duration // how long the project has not answered; 0: it does
	lost      error         // why the project cannot be followed any more
}

// picture is the screen as last drawn.
type picture struct {
	rows         []safeRow
	drawn        bool // the screen has been
	last         tea.View
	onlySnapshot bool // the newest message was one
}

func newModel(ctx context.Context, p api.Project, first *api.Snapshot) *model {
	m := &model{
		outside:    outside{ctx: ctx, project: p, clock: time.Now},
		scene:      scene{snap: first, now: time.Now(), span: -1},
		appearance: appearance{width: 80, height: 24},
		messages:   messages{marks: map[int64]bool{}},
		away:       away{used: time.Now()},
		overview:   newOverview(),
	}
	m.stack = []view{&m.overview}
	m.ground = cells.GroundOf(os.Getenv("COLORFGBG"))
	m.adopt(Habits{}, nil)
	m.meetUnits()
	return m
}

// meetUnits gives colors to units that an edit of the settings has brought, and
// chooses another where the chosen one has gone.
func (m *model) meetUnits() {
	names := make([]string, len(m.snap.Units))
	for i, u := range m.snap.Units {
		names[i] = u.Name
	}
	if !slices.Equal(names, m.names) {
		m.names = names
		m.applyStyles()
	}
	if m.chosen() == nil && len(names) > 0 {
		m.selected = names[0]
	}
}

// look chooses the colors for a ground, if the user has not chosen.
func (m *model) look(of cells.Ground) {
	m.ground = of
	switch m.habits.Theme {
	case "dark":
		of = cells.DarkGround
	case "light":
		of = cells.LightGround
	}
	m.palette = cells.NewPalette(of, m.profile)
	m.applyStyles()
}

// applyStyles gives the units their colors.
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

// Messages of the program itself, in addition to *api.Snapshot.
type (
	tickMsg struct{}            // time has passed
	endMsg  struct{ err error } // the project has ended, or cannot be followed any more
	// then is what to do in the loop with the answer to something done in the background; nil: nothing.
	then func()
)

// Init begins to let time pass.
func (m *model) Init() tea.Cmd { return tea.Batch(m.tick(), tea.RequestBackgroundColor) }

// tick lets the axis move: as often as its columns, at most ten times a second,
// while something moves; seldom otherwise, so that an idle screen costs nothing.
func (m *model) tick() tea.Cmd {
	pause := 2 * time.Second
	if m.snap.Verdict.Word == api.VerdictUpdating {
		pause = max(min(m.axis().Column, pause), 100*time.Millisecond)
	}
	return tea.Tick(pause, func(time.Time) tea.Msg { return tickMsg{} })
}

// later does something in the background. What do returns is called in the loop.
func (m *model) later(do func(context.Context) then) {
	ctx := m.ctx
	m.pending = append(m.pending, func() tea.Msg { return do(ctx) })
}

// Update handles one message.
func (m *model) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	m.now = m.clock()
	_, m.onlySnapshot = msg.(*api.Snapshot)
	m.guarded(func() { m.handle(msg) })
	m.guarded(func() {
		m.overview.ask(m)
		if a, ok := m.top().(asker); ok && m.top() != view(&m.overview) {
			a.ask(m)
		}
	})
	cmds := slices.Concat(m.cmds, m.pending, m.listening)
	m.cmds, m.pending, m.listening = nil, nil, nil
	return m, tea.Batch(cmds...)
}

func (m *model) handle(msg tea.Msg) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.width, m.height = msg.Width, msg.Height
	case tea.ColorProfileMsg:
		m.profile = msg.Profile
		m.look(m.ground)
	case tea.BackgroundColorMsg:
		if m.look(cells.LightGround); msg.IsDark() {
			m.look(cells.DarkGround)
		}
	case tea.KeyPressMsg:
		m.use()
		m.press(msg)
	case tea.FocusMsg:
		m.away.reports, m.away.blurred = true, false
		m.use()
		m.handsFocus("in")
	case tea.BlurMsg:
		m.away.reports, m.away.blurred = true, true
		m.handsFocus("out")
	case tea.ResumeMsg:
		m.tellTerminal(true)
		m.drawAgain()
	case backMsg:
		m.asked(msg.err)
		m.drawAgain()
	case *api.Snapshot:
		m.snap = msg
		m.meetUnits()
		m.notify()
	case silentMsg:
		m.silent = time.Duration(msg)
	case tickMsg:
		m.reread()
		m.cmds = append(m.cmds, m.tick())
	case then:
		if msg != nil {
			msg()
		}
	case endMsg:
		m.lost = msg.err
		m.cmds = append(m.cmds, tea.Quit)
	default:
		m.top().update(m, msg)
	}
}

// press does what a key stands for: in the top view, or else, unless that has all keys for
// itself, in the overview below it.
func (m *model) press(key tea.KeyPressMsg) {
	m.notice, m.said = "", ""
	v := m.top()
	b := lookUp(m, v.name(), key.String())
	if b == nil && !v.grabs(m) {
		b = lookUp(m, m.overview.name(), key.String())
	}
	if b == nil {
		v.update(m, key)
		return
	}
	b.do(m)
}

// View draws the screen.
func (m *model) View() tea.View {
	if m.drawn && m.awaits() {
		return m.last
	}
	var rows []string
	m.guarded(func() { rows = m.screen() })
	if rows == nil { // the view is closed now
		rows = m.screen()
	}
	m.makeSafe(rows)
	m.drawn = true
	v := tea.NewView(strings.Join(rows, "\n"))
	v.AltScreen = true
	v.WindowTitle = m.title()
	if v.MouseMode = tea.MouseModeCellMotion; m.noMouse {
		v.MouseMode = tea.MouseModeNone
	}
	v.ReportFocus = m.habits.Notify != "off"
	if h, ok := m.top().(*hands); ok {
		h.applyStyles(m, &v)
	}
	m.last = v
	return v
}

// safeRow is a row as a view has drawn it, and as it may be shown.
type safeRow struct{ drawn, safe string }

// makeSafe sees to it that what others wrote acts on no terminal, wherever on the screen it has come to.
// Rows that are as they were last are not looked at again.
func (m *model) makeSafe(rows []string) {
	m.rows = slices.Grow(m.rows[:0], len(rows))[:len(rows)]
	for i, row := range rows {
		if m.rows[i].drawn != row {
			m.rows[i] = safeRow{row, escape.Styled(row)}
			if m.rows[i].safe != row {
				m.rows[i].safe = cells.Fit(m.rows[i].safe, m.width)
			}
		}
		rows[i] = m.rows[i].safe
	}
}

// awaits reports whether nothing has happened but a new snapshot, and the lines that it speaks
// of are on their way: they come in a moment, and one drawing does for both.
func (m *model) awaits() bool {
	return m.onlySnapshot &&
		slices.ContainsFunc(m.overview.streams, func(s *stream) bool { return s.asking && s.following() })
}

// smallest is the size below which nothing sensible can be drawn.
const smallestWidth, smallestHeight = 40, 8

func (m *model) screen() []string {
	if m.width < smallestWidth || m.height < smallestHeight {
		return pad(
			[]string{
				cells.Fit(
					cmp.Or(m.silence(), strings.ToUpper(string(m.snap.Verdict.Word))+"  "+m.snap.Verdict.Text),
					m.width,
				),
				cells.Fit(fmt.Sprintf("needs %dx%d cells", smallestWidth, smallestHeight), m.width),
			},
			m.height,
			m.width,
		)
	}
	rows := []string{m.verdictView(m.width)}
	if notices := m.notices(); len(notices) > 0 {
		rows = append(rows, notices...)
	} else if m.height >= 30 {
		rows = append(rows, m.commandView())
	}
	m.bodyTop = len(rows)
	rows = append(rows, m.top().draw(m, m.width, m.height-len(rows)-1)...)
	return append(rows, m.hintsView(m.width))
}

// commandView is what runs, where that is one command alone, and else empty.
func (m *model) commandView() string {
	if len(m.snap.Units) != 1 {
		return cells.Fit("", m.width)
	}
	u := m.snap.Units[0]
	return cells.Fit(m.palette.Dim.Render("  "+cmp.Or(u.Run.Command, u.Command)), m.width)
}

// notices are what the user has to know in addition to the verdict, a row each; where there
// are more than have room, the last row says how many.
func (m *model) notices() []string {
	var all []string
	if m.notice != "" {
		text, _, _ := strings.Cut(m.notice, "\n")
		all = append(all, m.palette.Broken.Render("  "+text))
	}
	if f, ok := m.top().(typingView); ok && f.trouble(m) != "" {
		all = append(all, m.palette.Broken.Render("  "+f.trouble(m)))
	}
	if m.own != "" {
		text, _, _ := strings.Cut(m.own, "\n")
		all = append(all, m.palette.Stale.Render("  your own settings: "+text))
	}
	if m.said != "" {
		all = append(all, m.palette.Text.Render("  "+m.said))
	}
	if m.snap.Settings != "" {
		problem, _, _ := strings.Cut(m.snap.Settings, "\n")
		all = append(
			all,
			m.palette.Broken.Render("  settings  "+problem)+m.palette.Dim.Render("  (those before are in use)"),
		)
	}
	for _, problem := range []string{m.stream().problem, m.snap.LogProblem} {
		if text, _, _ := strings.Cut(problem, "\n"); text != "" {
			all = append(all, m.palette.Broken.Render("  "+text))
		}
	}
	if u := m.looping(); u != nil {
		all = append(all, loopNotice(m, u))
	}
	room := 1
	if m.height >= 20 {
		room = 3
	}
	if more := len(all) - room; more > 0 {
		all = all[:room]
		all[room-1] = cells.Fit(all[room-1], m.width-9) + m.palette.Dim.Render(fmt.Sprintf(" +%d more", more))
	}
	for i := range all {
		all[i] = cells.Fit(all[i], m.width)
	}
	return all
}

// chosen is the unit that small letters act on.
func (m *model) chosen() *api.Unit { return m.snap.Unit(m.selected) }

// request asks for something, of the selected unit.
func (m *model) request(a api.Action) { m.ask(a, m.selected) }

// ask asks for something, of units or of the project.
func (m *model) ask(a api.Action, units ...string) {
	m.askFor(api.Request{Action: a, Units: units})
}

// askFor asks for something that has more than units.
func (m *model) askFor(r api.Request) {
	m.later(func(ctx context.Context) then {
		_, err := m.project.Do(ctx, r)
		return m.report(err)
	})
}

func (m *model) addresses() api.Use { return m.snap.Uses[m.selected] }

func (m *model) browse() {
	address := m.addresses().Addresses[0]
	m.later(func(context.Context) then { return m.report(browser.Open(address)) })
}

func (m *model) pauseOrResume() api.Action {
	if u := m.chosen(); u != nil && u.Paused {
		return api.Resume
	}
	return api.Pause
}

func (m *model) pauseOrResumeAll() api.Action {
	if m.snap.Paused {
		return api.Resume
	}
	return api.Pause
}

// tellTerminal says whether the screen has the terminal.
func (m *model) tellTerminal(taken bool) {
	if m.terminal != nil {
		m.terminal(taken)
	}
}

// asked says why something that was asked for was not done.
func (m *model) asked(err error) {
	if err != nil && m.ctx.Err() == nil {
		m.notice = err.Error()
	}
}

// report returns what says why something that was asked for was not done.
func (m *model) report(err error) then { return func() { m.asked(err) } }

// drawAgain draws all of the screen again, once it has the terminal back.
func (m *model) drawAgain() {
	if redraw := m.redraw; redraw != nil {
		m.later(func(ctx context.Context) then {
			redraw(ctx)
			return nil
		})
	}
}

// suspend gives the terminal to the shell until that brings the screen back.
func (m *model) suspend() {
	m.tellTerminal(false)
	m.cmds = append(m.cmds, tea.Suspend)
}

// axis is the stretch of time that is on the screen.
func (m *model) axis() timeline.Axis {
	n, span := m.columns().lane, timeline.Spans[m.spanIndex()]
	end := m.now
	if !m.at.IsZero() && m.at.Before(m.now.Add(-span*9/10)) {
		end = m.at.Add(span / 2)
	}
	return timeline.To(end, span, n)
}
