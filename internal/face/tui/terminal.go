package tui

import (
	"context"
	"os"
	"sync/atomic"
	"time"

	tea "charm.land/bubbletea/v2"
)

// output is the terminal; it counts the writes.
type output struct {
	*os.File
	writes atomic.Int64
}

func (o *output) Write(p []byte) (int, error) {
	o.writes.Add(1)
	return o.File.Write(p)
}

// redraw draws the whole screen after another program had the terminal, and verifies that it is drawn: Bubble Tea
// 2.1.1 stops the renderer's ticker when it releases the terminal, and if the other program ends quickly, that can
// happen after the ticker was restarted; then nothing is drawn again. It blocks until something is drawn or the
// context is done.
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
