package session

import (
	"context"
	"errors"
	"strings"
	"sync"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/engine"
	"omnivigil/internal/output/logbook"
	"omnivigil/internal/output/terminal"
	"omnivigil/internal/process"
)

// A unit's terminal is that of its newest run, also when that has ended. It has the size that the last
// hands on it gave it.

// terminals are those of units.
type terminals struct {
	mu sync.Mutex
	of map[string]*unitTerminal
}

// unitTerminal is a unit's terminal.
type unitTerminal struct {
	size  api.Size
	run   *liveRun  // the newest
	hand  *api.Face // who has hands on it, or nil
	ask   api.Ask   // what it waits for; without a kind: nothing
	asked int       // how often that has changed
	told  string    // the last of this run that was told
	used  time.Time // when a face has last typed into it, or done something with the mouse
}

// firstSize is that of terminals that no face has typed into.
var firstSize = api.Size{Cols: 120, Rows: 40}

// renew gives a run the unit's terminal.
func (s *Session) renew(r *liveRun) {
	t := &s.terminals
	t.mu.Lock()
	defer t.mu.Unlock()
	unit := t.of[r.unit.Name]
	if unit == nil {
		unit = &unitTerminal{size: firstSize}
		t.of[r.unit.Name] = unit
	}
	if unit.run != nil {
		go unit.run.terminal.Close() // which may wait while a picture is made
	}
	r.terminal = terminal.New(unit.size, func(answer []byte) {
		if p := r.spawned(); p != nil {
			p.Answer(answer)
		}
	})
	unit.run, unit.ask, unit.told = r, api.Ask{}, ""
}

// closeTerminals ends what is at work for them.
func (s *Session) closeTerminals() {
	s.terminals.mu.Lock()
	defer s.terminals.mu.Unlock()
	for _, unit := range s.terminals.of {
		unit.run.terminal.Close()
	}
}

// terminalOf returns a unit's terminal, or a refusal that says why it has none.
func (s *Session) terminalOf(name string) (*unitTerminal, error) {
	u := s.Plan().Unit(name)
	switch {
	case u == nil:
		return nil, api.Refuse("there is no unit %q", s.clean(name))
	case u.Relay != nil:
		return nil, api.Refuse("%s is a relay: it has no terminal", u.Name)
	}
	s.terminals.mu.Lock()
	defer s.terminals.mu.Unlock()
	unit := s.terminals.of[name]
	if unit == nil {
		return nil, api.Refuse("%s has not run yet, so it has no terminal; start it first", u.Name)
	}
	return unit, nil
}

// Screen implements api.Project.
func (s *Session) Screen(_ context.Context, name string) (api.Screen, error) {
	unit, err := s.terminalOf(name)
	if err != nil {
		return api.Screen{}, err
	}
	run := s.runOf(unit)
	_, end := run.terminal.Look()
	defer end()
	return s.picture(unit, run), nil
}

func (s *Session) runOf(unit *unitTerminal) *liveRun {
	s.terminals.mu.Lock()
	defer s.terminals.mu.Unlock()
	return unit.run
}

// picture is what a run's terminal shows, which a face must ask for.
func (s *Session) picture(unit *unitTerminal, run *liveRun) api.Screen {
	var secret func(string) [][2]int
	if hidden := s.hidden.Load(); hidden != nil {
		secret = hidden.Spans
	}
	p := run.terminal.Picture(secret)
	p.Unit, p.Run, p.Title, p.Ended = run.unit.Name, run.number, strings.TrimSpace(s.clean(p.Title)), s.hasEnded(run)
	s.terminals.mu.Lock()
	defer s.terminals.mu.Unlock()
	if unit.hand != nil {
		hand := *unit.hand
		p.Hand = &hand
	}
	if unit.run == run && unit.ask.Kind != "" && !p.Ended {
		ask := unit.ask
		p.Ask = &ask
	}
	return p
}

// hasEnded reports whether nothing more comes from a run: its process has ended, or there is none and will
// be none, as where an earlier result is reused.
func (s *Session) hasEnded(run *liveRun) bool {
	if run.spawned() != nil {
		return run.over.Err() != nil
	}
	u := s.state().Unit(run.unit.Name)
	return u == nil || u.Run.Number == run.number && !u.State.InMotion()
}

// settlePatience bounds the wait for the end of what a program wants to be shown as one.
const settlePatience = 150 * time.Millisecond

// FollowScreen implements api.Project.
func (s *Session) FollowScreen(ctx context.Context, q api.ScreenQuery, show func(api.Screen) error) error {
	unit, err := s.terminalOf(q.Unit)
	if err != nil {
		return err
	}
	if q.Hand {
		letGo, err := s.takeHand(unit, q)
		if err != nil {
			return err
		}
		defer letGo()
	}
	stirred, stop := s.Changed()
	defer stop()
	var last api.Screen
	for {
		run := s.runOf(unit)
		changed, end := run.terminal.Look()
		err := s.followRun(ctx, unit, run, &last, show, changed, stirred)
		end()
		if !errors.Is(err, errNextRun) {
			return err
		}
	}
}

// errNextRun says that the unit's terminal is that of another run.
var errNextRun = errors.New("another run has begun")

// followRun shows what a run's terminal shows, beyond what was shown last, until another run begins.
func (s *Session) followRun(
	ctx context.Context,
	unit *unitTerminal,
	run *liveRun,
	last *api.Screen,
	show func(api.Screen) error,
	changed, stirred <-chan struct{},
) error {
	next := time.NewTimer(0)
	defer next.Stop()
	for {
		select {
		case <-next.C:
		case <-ctx.Done():
			return ctx.Err()
		}
		for began := time.Now(); !run.terminal.Settled() && time.Since(began) < settlePatience; {
			select {
			case <-changed:
			case <-time.After(settlePatience):
			}
		}
		now := s.picture(unit, run)
		if s.runOf(unit) != run { // the terminal may have been closed meanwhile
			return errNextRun
		}
		if differs(last, &now) {
			shown := now
			if last.Run == now.Run && last.Size == now.Size {
				shown.Lines = terminal.Changed(last.Lines, now.Lines)
			}
			*last = now
			if err := show(shown); err != nil {
				return err
			}
		}
		next.Reset(s.pauseOf(unit))
		select {
		case <-changed:
		case <-stirred:
		case <-s.done:
			return nil
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// pauseOf is how long is waited before the next picture of a terminal: what a person sets off is to be seen
// fluently; while they only watch, fewer do, since each costs the face its whole screen.
func (s *Session) pauseOf(unit *unitTerminal) time.Duration {
	const atIt, watched = 2 * time.Second, 12 // pictures a second
	s.terminals.mu.Lock()
	defer s.terminals.mu.Unlock()
	if time.Since(unit.used) < atIt {
		return time.Second / api.MaxPictures
	}
	return time.Second / watched
}

// differs reports whether there is something to show in a screen that was not in the last one.
func differs(last, now *api.Screen) bool {
	same := func(a, b *api.Face) bool { return a == b || a != nil && b != nil && a.PID == b.PID }
	asks := func(a *api.Ask) (ask api.Ask) {
		if a != nil {
			ask = *a
		}
		return ask
	}
	return last.Run != now.Run || last.Number != now.Number || last.Ended != now.Ended || !same(last.Hand, now.Hand) ||
		asks(last.Ask) != asks(now.Ask)
}

// takeHand gives a face hands on a unit until the function that it returns is called, or another face
// takes them over.
func (s *Session) takeHand(unit *unitTerminal, q api.ScreenQuery) (letGo func(), err error) {
	face := &api.Face{Kind: q.Face.Kind, PID: q.Face.PID}
	s.terminals.mu.Lock()
	if other := unit.hand; other != nil && !q.Take {
		s.terminals.mu.Unlock()
		return nil, s.handedTo(q.Unit, other)
	}
	unit.hand = face
	s.terminals.mu.Unlock()
	if q.Size != (api.Size{}) {
		s.resize(unit, q.Size)
	}
	s.notify()
	return func() {
		s.terminals.mu.Lock()
		if unit.hand == face {
			unit.hand = nil
		}
		s.terminals.mu.Unlock()
		s.notify()
	}, nil
}

// handedTo says who has hands on a unit.
func (s *Session) handedTo(unit string, face *api.Face) error {
	return api.Refuse("another face is typing into %s: %s, process %d", s.clean(unit), s.clean(face.Kind), face.PID)
}

// resize gives a unit's terminal a size, now and for its next runs.
func (s *Session) resize(unit *unitTerminal, size api.Size) {
	size = size.Bounded()
	s.terminals.mu.Lock()
	unit.size = size
	run := unit.run
	s.terminals.mu.Unlock()
	if run.terminal.Size() == size {
		return
	}
	run.terminal.Resize(size)
	if p := run.spawned(); p != nil && run.over.Err() == nil {
		run.complain(s, p.Resize(size.Cols, size.Rows))
	}
}

// Input implements api.Project.
func (s *Session) Input(_ context.Context, in api.Input) error {
	unit, err := s.terminalOf(in.Unit)
	if err != nil {
		return err
	}
	s.terminals.mu.Lock()
	run, hand := unit.run, unit.hand
	unit.used = time.Now()
	s.terminals.mu.Unlock()
	if hand != nil && hand.PID != in.Face {
		return s.handedTo(in.Unit, hand)
	}
	if in.Size != nil {
		if hand == nil {
			return api.Refuse("only the face that types into %s sets the size of its terminal", run.unit.Name)
		}
		s.resize(unit, *in.Size)
	}
	text, err := run.terminal.Bytes(in)
	if err != nil {
		return api.Refuse("%v", err)
	}
	p := run.spawned()
	switch {
	case len(text) == 0:
		return nil
	case p == nil || run.over.Err() != nil:
		return api.Refuse("%s is not running, so nothing can be typed into it; start it first", run.unit.Name)
	}
	if err := p.Type(text); err != nil {
		return api.Refuse("%s: %v", run.unit.Name, err)
	}
	run.lookSoon()
	return nil
}

// lookSoon looks in a moment whether the run still waits for input: it need not say anything when it
// has been answered.
func (r *liveRun) lookSoon() {
	r.reading.Lock()
	defer r.reading.Unlock()
	if r.quiet != nil {
		r.quiet.Reset(promptPause)
	}
}

// screenRest is how long a program that draws the whole screen draws nothing before it is taken to
// wait for input; tables that are drawn again every few seconds are at work.
const screenRest = 5 * time.Second

// seeAsk looks whether a run waits for input, when nothing has come from it for a moment.
func (r *liveRun) seeAsk(s *Session, rested bool) {
	p := r.spawned()
	if p == nil || r.over.Err() != nil {
		return
	}
	said := r.scanner.Said()
	asks := said != "" && !goesOn(said)
	reading := p.Reading(asks)
	ask := api.Ask{Since: time.Now().Round(0)}
	switch {
	case !reading.Waits:
	case r.terminal.Drawing():
		if rested {
			ask.Kind = api.AskScreen
		}
	case reading.Blind:
		ask.Kind, ask.Text = api.AskPassword, said
	case asks:
		ask.Kind, ask.Text = api.AskLine, said
	}
	ask.Text = strings.TrimSpace(s.clean(strip(ask.Text)))
	r.asked = ask.Kind != ""
	s.asks(r, ask)
}

// goesOn reports whether a line without an end says that something is at work, and asks nothing.
func goesOn(text string) bool {
	text = strings.TrimSpace(strip(text))
	return strings.HasSuffix(text, "...") || strings.HasSuffix(text, "…")
}

// asks notes what a run waits for, and says it in the log if that is something else than before: what
// a person types after a prompt is shown behind it, and who has hands on the unit sees it.
func (s *Session) asks(r *liveRun, ask api.Ask) {
	t := &s.terminals
	t.mu.Lock()
	unit := t.of[r.unit.Name]
	over := ask.Kind != "" && r.over.Err() != nil
	if unit == nil || unit.run != r || over || unit.ask.Kind == ask.Kind && unit.ask.Text == ask.Text {
		t.mu.Unlock()
		return
	}
	if unit.ask.Kind == ask.Kind && strings.HasPrefix(ask.Text, unit.ask.Text) {
		ask.Since = unit.ask.Since
	}
	words := string(ask.Kind) + ask.Text
	tell := ask.Kind != "" && unit.hand == nil && (unit.told == "" || !strings.HasPrefix(words, unit.told))
	if unit.ask = ask; tell {
		unit.told = words
	}
	unit.asked++
	number := unit.asked
	t.mu.Unlock()
	if tell {
		s.note(r.entry(logbook.Note), "waits for "+ask.Short())
	}
	asks := engine.Asks{Unit: r.unit.Name, Run: r.number, Number: number}
	if ask.Kind != "" {
		asks.For = ask.For()
	}
	go s.send(asks) // from another goroutine: the loop may wait for the lock under which this is
	s.notify()
}

// asking are the units that wait for input.
func (s *Session) asking() map[string]api.Ask {
	t := &s.terminals
	t.mu.Lock()
	defer t.mu.Unlock()
	all := map[string]api.Ask{}
	for name, unit := range t.of {
		if unit.ask.Kind != "" {
			all[name] = unit.ask
		}
	}
	return all
}

// noTerminal is what a process has that has no terminal.
type noTerminal struct{}

var errNoTerminal = errors.New("it has no terminal")

// Type implements Process.
func (noTerminal) Type([]byte) error { return errNoTerminal }

// TypeEnd implements Process.
func (noTerminal) TypeEnd(string) error { return errNoTerminal }

// Answer implements Process.
func (noTerminal) Answer([]byte) {}

// Resize implements Process.
func (noTerminal) Resize(int, int) error { return nil }

// Reading implements Process.
func (noTerminal) Reading(bool) process.Reading { return process.Reading{} }
