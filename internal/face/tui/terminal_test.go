package tui

import (
	"os"
	"path/filepath"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/require"
)

// TestRedraw simulates a renderer that drew nothing, which can happen after an editor that ended quickly, and draws
// again.
func TestRedraw(t *testing.T) {
	file, err := os.Create(filepath.Join(t.TempDir(), "terminal"))
	require.NoError(t, err)
	defer file.Close()
	m, _ := play(t, 3, 80, 24)
	s := &Screen{root: m, out: &output{File: file}}
	s.program = tea.NewProgram(
		m,
		tea.WithOutput(s.out),
		tea.WithInput(nil),
		tea.WithoutSignalHandler(),
		tea.WithContext(t.Context()),
	)
	over := make(chan struct{})
	go func() {
		defer close(over)
		s.program.Run()
	}()
	s.redraw(t.Context())
	require.NoError(t, s.program.ReleaseTerminal())
	before := s.out.writes.Load()
	s.redraw(t.Context())
	require.Greater(t, s.out.writes.Load(), before)
	s.program.Quit()
	<-over
}
