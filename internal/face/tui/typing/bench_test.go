package typing

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/cells"
	"omnivigil/internal/face/tui/view"
)

// BenchmarkTerminal draws a terminal in which all rows have changed.
func BenchmarkTerminal(b *testing.B) {
	m := view.NewModel(b.Context(), nil, &api.Snapshot{}, nil)
	m.Width, m.Height = 158, 46
	m.SetGround(cells.DarkGround)
	v := &Terminal{unit: "u0", asked: true}
	size := v.place(m)
	screens := [2]api.Screen{}
	for k := range screens {
		screens[k] = api.Screen{Unit: "u0", Run: 1, Size: size, Hand: &api.Face{Kind: view.Kind, PID: os.Getpid()}}
		for row := range size.Rows {
			screens[k].Lines = append(screens[k].Lines, api.ScreenLine{Row: row, Parts: []api.Cells{
				{
					Text:  strings.Repeat("tide ", 28),
					Width: 140,
					Style: api.Style{Foreground: "3"},
				},
				{Text: fmt.Sprintf(" %d", k), Width: 2},
			}})
		}
	}
	for i := 0; b.Loop(); i++ {
		v.merge(screens[i%2])
		v.Draw(m, m.Width, m.Height-3)
	}
}
