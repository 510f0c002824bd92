package tui

import (
	"context"
	"os"
	"sync/atomic"
	"time"

	tea "charm.land/bubbletea/v2"
)

// output is the terminal, which counts how often it was written to.
type output struct {
	*os.File
	writes atomic.Int64
}

func (o *output) Write(p []byte) (int, error) {
	o.writes.Add(1)
	return o.File.Write(p)
}

// redraw draws all of the screen again after another program has had the terminal, and sees to it
// that it is drawn: Bubble Tea 2.1.1 stops the clock of its renderer when it gives the terminal
// away, which can come after that clock was started again for a program that was quick; then
// nothing is ever drawn any more. It blocks until something is drawn or the context is done.
func (s *Screen) redraw(ctx context.Context) {
	const soon, look = time.Second, 10 * time.Millisecond
	for ctx.Err() == nil {
		before := s.out.writes.Load()
		s.program.Send(tea.ClearScreen())
		for limit := time.Now().Add(soon); time.Now().Before(limit) && ctx.Err() == nil; time.Sleep(look) {
			if s.out.writes.Load() != before {
				return
			}
		}
		if s.program.ReleaseTerminal() == nil {
			s.program.RestoreTerminal()
		}
	}
}
