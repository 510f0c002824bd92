package tui

import (
	"context"
	"os"
	"os/signal"
	"time"

	tea "charm.land/bubbletea/v2"
	uv "github.com/charmbracelet/ultraviolet"

	"omnivigil/internal/api"
	"omnivigil/internal/api/yield"
	"omnivigil/internal/face/tui/display"
	"omnivigil/internal/face/tui/view"
)

// frames draws the root: at once after a message, but not more often than a limit allows. While nothing happens it does
// nothing.
type frames struct {
	*root
	display *display.Display
	yield   *yield.Page
	last    time.Time // when a frame was drawn
	keys    allowance // of frames for keys
	waits   bool      // a frame will be drawn later
}

// pauseBetween is the shortest pause between two frames. They may be twice as many as snapshots, so that a key's effect
// shows soon.
const pauseBetween = time.Second / (2 * api.MaxFrames)

// allowance lets a few frames for keys come sooner, but not more of them.
type allowance struct{ due time.Time } // when the next one would come with the usual pause

const burst = 3 // frames

// rest is the time until the next frame may come.
func (a *allowance) rest(now time.Time) time.Duration {
	return a.due.Add(-(burst - 1) * pauseBetween).Sub(now)
}

// drawn notes that a frame has come.
func (a *allowance) drawn(now time.Time) {
	if a.due.Before(now) {
		a.due = now
	}
	a.due = a.due.Add(pauseBetween)
}

// frameMsg is sent when a frame may be drawn.
type frameMsg struct{}

// Update handles one message, and draws what it changes.
func (f *frames) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	var cmd tea.Cmd
	key := false
	switch msg.(type) {
	case tea.KeyMsg, tea.MouseMsg, tea.PasteMsg:
		f.yield.Ask()
		defer f.yield.Done()
		key = true
	}
	switch msg := msg.(type) {
	case frameMsg:
		f.waits = false
	case view.Sequence:
		f.display.Write(string(msg))
	case tea.ResumeMsg, view.TerminalBackMsg: // its size may have changed meanwhile
		_, cmd = f.root.Update(msg)
		cmd = tea.Batch(cmd, f.size)
	default:
		f.display.Hear(msg)
		_, cmd = f.root.Update(msg)
	}
	return f, tea.Batch(cmd, f.draw(key))
}

// draw draws a frame, unless the pause after the last one is not over: then it returns what does so later. A frame for
// a key does not wait for that. A terminal that is gone gets none; the program ends for other reasons then.
func (f *frames) draw(key bool) tea.Cmd {
	rest := pauseBetween - time.Since(f.last)
	if key {
		rest = f.keys.rest(time.Now())
	}
	switch {
	case f.Width == 0 || rest > 0 && f.waits:
		return nil
	case rest > 0:
		f.waits = true
		return tea.Tick(rest, func(time.Time) tea.Msg { return frameMsg{} })
	}
	f.display.Draw(f.root.View())
	if f.last = time.Now(); key {
		f.keys.drawn(f.last)
	}
	return nil
}

// size is the terminal's size now.
func (f *frames) size() tea.Msg {
	width, height := f.display.Size()
	return tea.WindowSizeMsg{Width: width, Height: height}
}

// View draws nothing: see draw.
func (f *frames) View() tea.View { return tea.View{} }

// resized tells the program when the terminal's size changes, until the context is done.
func (s *Screen) resized(ctx context.Context, f *frames) {
	changed := make(chan os.Signal, 1)
	uv.NotifyWinch(changed)
	defer signal.Stop(changed)
	for {
		select {
		case <-changed:
			s.program.Send(f.size())
		case <-ctx.Done():
			return
		}
	}
}
