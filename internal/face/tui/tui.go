// Package tui is the full screen.
//
// Screen runs it. The root is the Bubble Tea program: it routes messages and draws what surrounds every view: the
// verdict, the notices, the bottom line, the help, the command line. Views are in packages of their own, behind the
// interface view.View, and share view.Model. A view decides nothing about the project, and fetches what it shows in the
// background, so that drawing never waits. Start reading at view.View, view.Model and root.
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

	"omnivigil/internal/api"
	"omnivigil/internal/api/yield"
	"omnivigil/internal/face/tui/cells"
	"omnivigil/internal/face/tui/display"
	"omnivigil/internal/face/tui/lanes"
	"omnivigil/internal/face/tui/overview"
	"omnivigil/internal/face/tui/panels"
	"omnivigil/internal/face/tui/view"
	"omnivigil/internal/text/escape"
)

// Screen is a full screen on a project.
type Screen struct {
	Project api.Project
	First   *api.Snapshot // the newest snapshot
	// Terminal, if set, is called when the screen takes the terminal and when it gives it back, for example while it is
	// suspended.
	Terminal func(taken bool)
	// Habits are the user's preferences, Problems what is wrong with the personal file. HabitsNow, if set, is called
	// every few seconds to learn whether they have changed.
	Habits    Habits
	Problems  []string
	HabitsNow func() (h Habits, problems []string, changed bool)
	// Words are the arguments that were added to commands before, the newest last. Remember, if set, is called with
	// them when they change; it may block.
	Words    []string
	Remember func(words []string)
	// SaveSelection, if set, writes a selection of units into the personal file; it may block.
	SaveSelection func(name string, units []string) error

	// ListOthers, if set, returns the other running projects of the user; it may block.
	ListOthers func(ctx context.Context) []view.Other
	// Remote is the other machine on which the project runs; nil: it runs on this one.
	Remote *view.Remote
	// Yield leaves the screen the processors when a key was pressed; nil: nothing does.
	Yield *yield.Page

	program *tea.Program
	display *display.Display
	root    *root
}

// Run shows the project until it has ended, the user closes the screen, or the context is done. It returns the newest
// snapshot. The error tells why the screen could not be shown, or is api.ErrLost if the supervisor is gone.
func (s *Screen) Run(ctx context.Context) (*api.Snapshot, error) {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	s.root = newRoot(ctx, s.Project, s.First)
	s.root.habitsNow = s.HabitsNow
	s.root.adopt(s.Habits, s.Problems)
	s.root.TypedWords, s.root.Remember = s.Words, s.Remember
	s.root.SaveSelection, s.root.ListOthers, s.root.Remote = s.SaveSelection, s.ListOthers, s.Remote
	s.display = display.Open(os.Stdin, os.Stdout, os.Environ())
	s.root.Terminal, s.root.Lend = s.take, s.display.Lend
	drawn := &frames{root: s.root, display: s.display, yield: s.Yield}
	width, height := s.display.Size()
	s.program = tea.NewProgram(
		drawn,
		tea.WithWindowSize(width, height),
		tea.WithoutRenderer(),
		tea.WithoutSignalHandler(),
		tea.WithFPS(1), // how often it looks for something to write, which it never has
		tea.WithContext(ctx),
	)
	if err := s.take(true); err != nil {
		return s.First, err
	}
	defer s.take(false)
	go s.resized(ctx, drawn)
	go s.follow(ctx)
	go s.watchOthers(ctx)
	go api.WatchSilence(ctx, s.Project, func(silent time.Duration) { s.program.Send(silentMsg(silent)) })
	_, err := s.program.Run()
	switch {
	case s.root.lost != nil:
		err = s.root.lost
	case errors.Is(err, tea.ErrProgramKilled), errors.Is(err, context.Canceled):
		err = nil
	}
	return s.root.Snap, err
}

// SwitchTo is the settings file of the project that the user wants to see after Run; empty: none.
func (s *Screen) SwitchTo() string { return s.root.SwitchTo }

// take takes the terminal, or gives it back.
func (s *Screen) take(taken bool) error {
	tell := s.Terminal
	if tell == nil {
		tell = func(bool) {}
	}
	if taken {
		tell(true)
		return s.display.Take()
	}
	defer tell(false)
	return s.display.Give()
}

// follow sends each new snapshot to the program.
func (s *Screen) follow(ctx context.Context) {
	me := api.Face{Kind: view.Kind, PID: os.Getpid(), Leave: api.Seconds(s.Habits.Leave)}
	err := s.Project.Follow(ctx, me, func(snap *api.Snapshot) error {
		s.program.Send(snap)
		return nil
	})
	s.program.Send(endMsg{err})
}

// root is the Bubble Tea program. It routes messages, and draws what surrounds every view.
type root struct {
	*view.Model
	clock     func() time.Time
	habits    Habits
	habitsNow func() (Habits, []string, bool)
	own       string // what is wrong with the personal file
	lost      error  // why the project can no longer be followed
	away      away
	pressed   lastKey
	moved     time.Time // when the last snapshot came, or a key
	awaited   int       // requests without an answer
	picture
}

// picture is the screen as last drawn.
type picture struct {
	rows         []safeRow
	drawn        bool // a frame has been drawn
	last         tea.View
	onlySnapshot bool // the last message was a snapshot
}

func newRoot(ctx context.Context, p api.Project, first *api.Snapshot) *root {
	r := &root{Model: view.NewModel(ctx, p, first, overview.New()), clock: time.Now, away: away{used: time.Now()}}
	r.Ground = cells.GroundOf(os.Getenv("COLORFGBG"))
	r.adopt(Habits{}, nil)
	r.MeetUnits()
	return r
}

// Messages of the program itself, in addition to *api.Snapshot.
type (
	tickMsg   struct{}            // time has passed
	answerMsg struct{ tea.Msg }   // of a request
	endMsg    struct{ err error } // the project has ended, or can no longer be followed
)

// Init starts the clock.
func (r *root) Init() tea.Cmd { return r.tick() }

// tick moves the axis: while something is moving, once a column but at most ten times a second; otherwise every two
// seconds, and when nothing has moved for a minute, so that no time is shown in seconds, every five.
func (r *root) tick() tea.Cmd {
	pause := 2 * time.Second
	if r.Now.Sub(r.moved) > time.Minute {
		pause = 5 * time.Second
	}
	if r.Live.Verdict.Word == api.VerdictUpdating {
		pause = max(min(lanes.AxisOf(r.Model).Column, pause), 100*time.Millisecond)
	}
	return tea.Tick(pause, func(time.Time) tea.Msg { return tickMsg{} })
}

// Update handles one message.
func (r *root) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	r.Now = r.clock()
	_, r.onlySnapshot = msg.(*api.Snapshot)
	r.guarded(func() { r.handle(msg) })
	r.Recall()
	r.guarded(r.ask)
	for i, request := range r.Requests {
		r.Requests[i] = func() tea.Msg { return answerMsg{request()} }
	}
	if r.awaited += len(r.Requests); r.awaited == 0 {
		r.tellEffect()
	}
	cmds := slices.Concat(r.Commands, r.Requests, r.Listeners)
	r.Commands, r.Requests, r.Listeners = nil, nil, nil
	return r, tea.Batch(cmds...)
}

// ask lets the views fetch what they show.
func (r *root) ask() {
	for _, v := range []view.View{r.Stack[0], r.Top()} {
		if a, ok := v.(view.Asker); ok {
			a.Ask(r.Model)
		}
	}
}

func (r *root) handle(msg tea.Msg) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		r.Width, r.Height = msg.Width, msg.Height
	case tea.ColorProfileMsg:
		r.Profile = msg.Profile
		r.SetGround(r.Ground)
	case tea.BackgroundColorMsg:
		if r.SetGround(cells.LightGround); msg.IsDark() {
			r.SetGround(cells.DarkGround)
		}
	case tea.KeyPressMsg:
		r.moved = r.Now
		r.use()
		r.press(msg)
	case tea.FocusMsg:
		r.away.reports, r.away.blurred = true, false
		r.use()
		r.Top().Update(r.Model, msg)
	case tea.BlurMsg:
		r.away.reports, r.away.blurred = true, true
		r.Top().Update(r.Model, msg)
	case tea.ResumeMsg:
		r.TellTerminal(true)
	case view.TerminalBackMsg:
		r.ShowError(msg.Err)
	case *api.Snapshot:
		r.Live, r.moved = msg, r.Now
		r.Recall()
		r.MeetUnits()
		r.notify()
	case othersMsg:
		r.Others = msg
	case silentMsg:
		r.Silent = time.Duration(msg)
	case tickMsg:
		r.reread()
		r.Run(r.tick())
	case view.Then:
		if msg != nil {
			msg()
		}
	case answerMsg:
		r.awaited--
		r.handle(msg.Msg)
	case endMsg:
		r.lost = msg.err
		r.Run(tea.Quit)
	default:
		r.Top().Update(r.Model, msg)
	}
}

// press does what a key means in the top view or, unless that view gets all keys, in the overview.
func (r *root) press(key tea.KeyPressMsg) {
	r.Notice, r.Said, r.pressed = "", "", lastKey{}
	v := r.Top()
	b := view.LookUp(r.Model, v.Name(), key.String())
	if b == nil && !v.Grabs(r.Model) {
		b = view.LookUp(r.Model, r.Stack[0].Name(), key.String())
	}
	if b != nil {
		r.do(b, key.String())
		return
	}
	t, types := v.(view.Taker)
	types = types && t.TakesKeys(r.Model)
	off := view.WhyNot(r.Model, key.String(), v.Name()) != ""
	if !types || off {
		r.Said = r.whyNothing(v, key.String())
	}
	if !types || !off {
		v.Update(r.Model, key)
	}
}

// do does what a binding means, and says so if that changes nothing: the screen shows the same, and nothing is
// requested.
func (r *root) do(b *view.Binding, pressed string) {
	r.pressed = lastKey{pressed, r.shown()}
	top, fetched, requested := r.Top(), len(r.Requests), r.requested()
	b.Do(r.Model)
	r.Recall()
	r.ask()
	switch {
	case r.Said+r.Notice != "", r.Top() != top, r.requested() != requested:
		r.pressed = lastKey{}
	case len(r.Requests) == fetched:
		r.tellEffect()
	}
}

// lastKey is the last key that was pressed, and what the screen showed before, until the key's effect is known: what
// it shows may have to be fetched.
type lastKey struct{ key, before string }

// tellEffect says that the last key changes nothing if the screen shows the same as before. Nothing may be fetched any
// more.
func (r *root) tellEffect() {
	last := r.pressed
	if r.pressed = (lastKey{}); last.key != "" && r.Said == "" && r.shown() == last.before {
		r.Said = view.Binding{Keys: []string{last.key}}.Shown() + " changes nothing right now"
	}
}

// shown is what the screen shows.
func (r *root) shown() string { return strings.Join(r.screen(), "\n") }

// requested is how much was requested of the project and the terminal.
func (r *root) requested() int { return r.Actions + len(r.Commands) + len(r.Listeners) }

// whyNothing tells why a key has no effect.
func (r *root) whyNothing(v view.View, pressed string) string {
	views := []string{v.Name(), r.Stack[0].Name()}
	if v.Grabs(r.Model) {
		views = views[:1]
	}
	shown := view.Binding{Keys: []string{pressed}}.Shown()
	if why := view.WhyNot(r.Model, pressed, views...); why != "" {
		return shown + ": " + why
	}
	if v.Grabs(r.Model) {
		return shown + " does nothing here; esc goes back"
	}
	return shown + " does nothing here; " + r.KeyOf("help") + " lists the keys"
}

// View draws the screen.
func (r *root) View() tea.View {
	if r.drawn && r.awaits() {
		return r.last
	}
	var rows []string
	r.guarded(func() { rows = r.screen() })
	if rows == nil { // it panicked, and the view was closed
		rows = r.screen()
	}
	r.makeSafe(rows)
	r.drawn = true
	v := tea.NewView(strings.Join(rows, "\n"))
	v.AltScreen = true
	v.WindowTitle = r.title()
	if v.MouseMode = tea.MouseModeCellMotion; r.NoMouse {
		v.MouseMode = tea.MouseModeNone
	}
	v.ReportFocus = r.habits.Notify != "off"
	if f, ok := r.Top().(view.Framer); ok {
		f.Frame(r.Model, &v)
	}
	r.last = v
	return v
}

// safeRow is a row as a view has drawn it, and without what could act on the terminal.
type safeRow struct{ drawn, safe string }

// makeSafe removes everything that could act on the terminal, whichever view drew it. Unchanged rows are not checked
// again.
func (r *root) makeSafe(rows []string) {
	r.rows = slices.Grow(r.rows[:0], len(rows))[:len(rows)]
	for i, row := range rows {
		if r.rows[i].drawn != row {
			r.rows[i] = safeRow{row, escape.Styled(row)}
			if r.rows[i].safe != row {
				r.rows[i].safe = cells.Fit(r.rows[i].safe, r.Width)
			}
		}
		rows[i] = r.rows[i].safe
	}
}

// awaits reports whether the last message was a snapshot whose newest lines are being fetched. They arrive soon, and
// one frame shows both.
func (r *root) awaits() bool {
	return r.onlySnapshot && overview.Of(r.Model).Awaits()
}

// Below this size only the verdict is drawn.
const smallestWidth, smallestHeight = 40, 8

func (r *root) screen() []string {
	if r.Width < smallestWidth || r.Height < smallestHeight {
		return view.Pad(
			[]string{
				cells.Fit(
					cmp.Or(silence(r.Model), strings.ToUpper(string(r.Snap.Verdict.Word))+"  "+r.Snap.Verdict.Text),
					r.Width,
				),
				cells.Fit(fmt.Sprintf("needs %dx%d cells", smallestWidth, smallestHeight), r.Width),
			},
			r.Height,
			r.Width,
		)
	}
	verdict, rest := r.verdictView(r.Width)
	rows := []string{verdict}
	if rest != "" {
		rows = append(rows, rest)
	}
	if notices := r.notices(); len(notices) > 0 {
		rows = append(rows, notices...)
	} else if r.Height >= 30 && len(rows) == 1 {
		rows = append(rows, r.commandView())
	}
	r.BodyTop = len(rows)
	rows = append(rows, r.Top().Draw(r.Model, r.Width, r.Height-len(rows)-1)...)
	return append(rows, r.hintsView(r.Width))
}

// commandView is the command of a project with only one unit; otherwise it is empty.
func (r *root) commandView() string {
	if len(r.Snap.Units) != 1 {
		return cells.Fit("", r.Width)
	}
	u := r.Snap.Units[0]
	return cells.Fit(r.Palette.Dim.Render("  "+cmp.Or(u.Run.Command, u.Command)), r.Width)
}

// notices are what the user has to know in addition to the verdict, in a row each. If there is not enough room, the
// last row tells how many more there are.
func (r *root) notices() []string {
	var all []string
	if r.Notice != "" {
		text, _, _ := strings.Cut(r.Notice, "\n")
		all = append(all, r.Palette.Broken.Render("  "+text))
	}
	if f, ok := r.Top().(view.Typing); ok && f.Wrong(r.Model) != "" {
		all = append(all, r.Palette.Broken.Render("  "+f.Wrong(r.Model)))
	}
	if r.own != "" {
		text, _, _ := strings.Cut(r.own, "\n")
		all = append(all, r.Palette.Stale.Render("  your own settings: "+text))
	}
	if r.Said != "" {
		all = append(all, r.Palette.Text.Render("  "+r.Said))
	}
	if r.Snap.Settings != "" {
		problem, _, _ := strings.Cut(r.Snap.Settings, "\n")
		all = append(
			all,
			r.Palette.Broken.Render("  settings  "+problem)+r.Palette.Dim.Render("  (those before are in use)"),
		)
	}
	for _, problem := range []string{overview.Focused(r.Model).Problem(), r.Snap.LogProblem} {
		if text, _, _ := strings.Cut(problem, "\n"); text != "" {
			all = append(all, r.Palette.Broken.Render("  "+text))
		}
	}
	if u := panels.Looping(r.Model); u != nil {
		all = append(all, panels.LoopNotice(r.Model, u))
	}
	room := 1
	if r.Height >= 20 {
		room = 3
	}
	if more := len(all) - room; more > 0 {
		all = all[:room]
		all[room-1] = cells.Fit(all[room-1], r.Width-9) + r.Palette.Dim.Render(fmt.Sprintf(" +%d more", more))
	}
	for i := range all {
		all[i] = cells.Fit(all[i], r.Width)
	}
	return all
}

func pauseOrResume(m *view.Model) api.Action {
	if u := m.Live.Unit(m.Selected); u != nil && u.Paused {
		return api.Resume
	}
	return api.Pause
}

func pauseOrResumeAll(m *view.Model) api.Action {
	if m.Live.Paused {
		return api.Resume
	}
	return api.Pause
}

// suspend gives the terminal to the shell until the shell resumes the screen.
func suspend(m *view.Model) {
	m.TellTerminal(false)
	m.Run(tea.Suspend)
}

// toggleMouse gives the mouse to the terminal, for selecting text, or takes it back.
func toggleMouse(m *view.Model) {
	if m.NoMouse = !m.NoMouse; m.NoMouse {
		m.Said = "mouse: selects text"
	} else {
		m.Said = "mouse: controls the screen"
	}
}
