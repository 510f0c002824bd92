// Package terminals shows the terminals of units to faces, lets faces type into them, and decides which face may: at
// most one at a time for each unit. A unit's terminal is that of its newest run, even after that has ended. Its size
// is the one that the last typing face gave it. The emulator itself is in package output/terminal. Start reading at
// Terminals.Follow and Terminals.Input.
package terminals

import (
	"context"
	"errors"
	"strings"
	"sync"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/engine"
	"omnivigil/internal/output/logbook"
	"omnivigil/internal/output/redact"
	"omnivigil/internal/output/terminal"
	"omnivigil/internal/plan"
	"omnivigil/internal/session/run"
	"omnivigil/internal/text/suggest"
)

// Host is what terminals need of their session. Its methods may be called from any goroutine, and only Send may
// block.
type Host interface {
	Plan() *plan.Plan
	State() *engine.Snapshot
	Hidden() *redact.Mask               // masks secrets
	Clean(text string) string           // makes text safe to show
	Note(e logbook.Entry, text string)  // adds an event to the account and the log
	Changed() (<-chan struct{}, func()) // a channel that has a value when there is something new to show, until the function is called
	Notify()                            // tells that there is
	Done() <-chan struct{}              // closed when the session is over
	Send(ev engine.Event)               // to the engine
}

// Terminals are the terminals of a session's units. Its methods may be called from any goroutine.
type Terminals struct {
	Host

	mu sync.Mutex
	of map[string]*unitTerminal
}

// New returns an empty set of terminals.
func New(h Host) *Terminals { return &Terminals{Host: h, of: map[string]*unitTerminal{}} }

// unitTerminal is a unit's terminal.
type unitTerminal struct {
	size  api.Size
	run   *run.Live // the newest
	hand  *api.Face // the face that is typing into it, or nil
	ask   api.Ask   // what it waits for; without a kind: nothing
	asked int       // how often that has changed
	told  string    // the last prompt of this run that was reported
	used  time.Time // when a face last typed into it, or used the mouse
}

// firstSize is the size of terminals that no face has typed into.
var firstSize = api.Size{Cols: 120, Rows: 40}

// Attach makes a run's terminal that of its unit.
func (t *Terminals) Attach(r *run.Live) {
	t.mu.Lock()
	defer t.mu.Unlock()
	unit := t.of[r.Unit.Name]
	if unit == nil {
		unit = &unitTerminal{size: firstSize}
		t.of[r.Unit.Name] = unit
	}
	if unit.run != nil {
		go unit.run.Terminal.Close() // closing may wait while a picture is made
	}
	r.Terminal = terminal.New(unit.size, func(answer []byte) {
		if p := r.Process(); p != nil {
			p.Answer(answer)
		}
	})
	unit.run, unit.ask, unit.told = r, api.Ask{}, ""
}

// Close ends the work for them.
func (t *Terminals) Close() {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, unit := range t.of {
		unit.run.Terminal.Close()
	}
}

// terminalOf returns a unit's terminal, or a refusal that tells why it has none.
func (t *Terminals) terminalOf(name string) (*unitTerminal, error) {
	u := t.Plan().Unit(name)
	switch {
	case u == nil:
		return nil, api.Refuse("there is no unit %q; %s", t.Clean(name), suggest.Hint(name, t.Plan().UnitNames()))
	case u.Relay != nil:
		return nil, api.Refuse("%s is a relay: it has no terminal", u.Name)
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	unit := t.of[name]
	if unit == nil {
		return nil, api.Refuse("%s has not run yet, so it has no terminal; start it first", u.Name)
	}
	return unit, nil
}

// Screen returns the screen of a unit's terminal. See api.Project.
func (t *Terminals) Screen(name string) (api.Screen, error) {
	unit, err := t.terminalOf(name)
	if err != nil {
		return api.Screen{}, err
	}
	live := t.runOf(unit)
	_, end := live.Terminal.Look()
	defer end()
	return t.picture(unit, live), nil
}

func (t *Terminals) runOf(unit *unitTerminal) *run.Live {
	t.mu.Lock()
	defer t.mu.Unlock()
	return unit.run
}

// picture is the screen of a run's terminal, which a face must be looking at.
func (t *Terminals) picture(unit *unitTerminal, live *run.Live) api.Screen {
	var secret func(string) [][2]int
	if hidden := t.Hidden(); hidden != nil {
		secret = hidden.Spans
	}
	p := live.Terminal.Picture(secret)
	p.Unit, p.Run, p.Title, p.Ended = live.Unit.Name, live.Number, strings.TrimSpace(t.Clean(p.Title)), t.hasEnded(live)
	t.mu.Lock()
	defer t.mu.Unlock()
	if unit.hand != nil {
		hand := *unit.hand
		p.Hand = &hand
	}
	if unit.run == live && unit.ask.Kind != "" && !p.Ended {
		ask := unit.ask
		p.Ask = &ask
	}
	return p
}

// hasEnded reports whether a run writes nothing more: its process has ended, or it has none and never will, for
// example because an earlier result is reused.
func (t *Terminals) hasEnded(live *run.Live) bool {
	if live.Process() != nil {
		return live.IsOver()
	}
	u := t.State().Unit(live.Unit.Name)
	return u == nil || u.Run.Number == live.Number && !u.State.InMotion()
}

// settlePatience limits the wait for the end of a synchronized update.
const settlePatience = 150 * time.Millisecond

// Follow calls show with the screen of a unit's terminal, whenever that has changed. It blocks. See api.Project.
func (t *Terminals) Follow(ctx context.Context, q api.ScreenQuery, show func(api.Screen) error) error {
	unit, err := t.terminalOf(q.Unit)
	if err != nil {
		return err
	}
	if q.Hand {
		letGo, err := t.takeHand(unit, q)
		if err != nil {
			return err
		}
		defer letGo()
	}
	stirred, stop := t.Changed()
	defer stop()
	var last api.Screen
	for {
		live := t.runOf(unit)
		changed, end := live.Terminal.Look()
		err := t.followRun(ctx, unit, live, &last, show, changed, stirred)
		end()
		if !errors.Is(err, errNextRun) {
			return err
		}
	}
}

// errNextRun: the unit's terminal is now that of another run.
var errNextRun = errors.New("another run has begun")

// followRun shows the changes of a run's screen since what was last shown, until another run begins.
func (t *Terminals) followRun(
	ctx context.Context,
	unit *unitTerminal,
	live *run.Live,
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
		for began := time.Now(); !live.Terminal.Settled() && time.Since(began) < settlePatience; {
			select {
			case <-changed:
			case <-time.After(settlePatience):
			}
		}
		now := t.picture(unit, live)
		if t.runOf(unit) != live { // the terminal may have been closed in the meantime
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
		next.Reset(t.pauseOf(unit))
		select {
		case <-changed:
		case <-stirred:
		case <-t.Done():
			return nil
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// pauseOf is the pause before the next picture of a terminal: the effects of typing should be fluent; for watching,
// fewer pictures do, because each costs the face its whole screen.
func (t *Terminals) pauseOf(unit *unitTerminal) time.Duration {
	const atIt, watched = 2 * time.Second, 10 // pictures a second
	t.mu.Lock()
	defer t.mu.Unlock()
	if time.Since(unit.used) < atIt {
		return time.Second / api.MaxPictures
	}
	return time.Second / watched
}

// differs reports whether a screen has something that was not in the last one.
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

// takeHand lets a face type into a unit until the returned function is called, or another face takes over.
func (t *Terminals) takeHand(unit *unitTerminal, q api.ScreenQuery) (letGo func(), err error) {
	face := &api.Face{Kind: q.Face.Kind, PID: q.Face.PID}
	t.mu.Lock()
	if other := unit.hand; other != nil && !q.Take {
		t.mu.Unlock()
		return nil, t.handedTo(q.Unit, other)
	}
	unit.hand = face
	t.mu.Unlock()
	if q.Size != (api.Size{}) {
		t.resize(unit, q.Size)
	}
	t.Notify()
	return func() {
		t.mu.Lock()
		if unit.hand == face {
			unit.hand = nil
		}
		t.mu.Unlock()
		t.Notify()
	}, nil
}

// handedTo sets the face that is typing into a unit.
func (t *Terminals) handedTo(unit string, face *api.Face) error {
	return api.Refuse("another face is typing into %s: %s, process %d", t.Clean(unit), t.Clean(face.Kind), face.PID)
}

// resize sets the size of a unit's terminal, now and for its next runs.
func (t *Terminals) resize(unit *unitTerminal, size api.Size) {
	size = size.Bounded()
	t.mu.Lock()
	unit.size = size
	live := unit.run
	t.mu.Unlock()
	if live.Terminal.Size() == size {
		return
	}
	live.Terminal.Resize(size)
	if p := live.Process(); p != nil && !live.IsOver() {
		live.Complain(p.Resize(size.Cols, size.Rows))
	}
}

// Input types into a unit's terminal. See api.Project.
func (t *Terminals) Input(in api.Input) error {
	unit, err := t.terminalOf(in.Unit)
	if err != nil {
		return err
	}
	t.mu.Lock()
	live, hand := unit.run, unit.hand
	unit.used = time.Now()
	t.mu.Unlock()
	if hand != nil && hand.PID != in.Face {
		return t.handedTo(in.Unit, hand)
	}
	if in.Size != nil {
		if hand == nil {
			return api.Refuse("only the face that types into %s sets the size of its terminal", live.Unit.Name)
		}
		t.resize(unit, *in.Size)
	}
	text, err := live.Terminal.Bytes(in)
	if err != nil {
		return api.Refuse("%v", err)
	}
	p := live.Process()
	switch {
	case len(text) == 0:
		return nil
	case p == nil || live.IsOver():
		return api.Refuse("%s is not running, so nothing can be typed into it; start it first", live.Unit.Name)
	}
	if err := p.Type(text); err != nil {
		return api.Refuse("%s: %v", live.Unit.Name, err)
	}
	live.LookSoon()
	return nil
}

// Asks records what a run waits for, and reports a change in the log: what a user types after a prompt is shown after
// it, and the typing face sees it.
func (t *Terminals) Asks(r *run.Live, ask api.Ask) {
	t.mu.Lock()
	unit := t.of[r.Unit.Name]
	over := ask.Kind != "" && r.IsOver()
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
		t.Note(r.Entry(logbook.Note), "waits for "+ask.Short())
	}
	asks := engine.Asks{Unit: r.Unit.Name, Run: r.Number, Number: number}
	if ask.Kind != "" {
		asks.For = ask.For()
	}
	go t.Send(asks) // from another goroutine: the loop may wait for the lock that is held here
	t.Notify()
}

// Asking returns the units that wait for input.
func (t *Terminals) Asking() map[string]api.Ask {
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
