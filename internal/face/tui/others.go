package tui

import (
	"context"
	"strings"
	"time"

	"omnivigil/internal/face/tui/view"
)

// othersPause is how often other projects are looked at.
const othersPause = 5 * time.Second

// othersMsg is the other projects.
type othersMsg []view.Other

// watchOthers reports the other projects from time to time, until the context is done.
func (s *Screen) watchOthers(ctx context.Context) {
	if s.ListOthers == nil {
		return
	}
	tick := time.NewTicker(othersPause)
	defer tick.Stop()
	known := false
	for {
		if all := s.ListOthers(ctx); len(all) > 0 || known {
			known = len(all) > 0
			s.program.Send(othersMsg(all))
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
	}
}

// alarm names the other projects that are bad: "Harbour office BROKEN".
func alarm(m *view.Model) string {
	var texts []string
	for _, o := range m.Others {
		if o.Bad() {
			texts = append(texts, m.Palette.VerdictStyle(o.Word).Render(o.Name+" "+strings.ToUpper(string(o.Word))))
		}
	}
	switch {
	case len(texts) == 0:
		return ""
	case len(texts) > 1:
		texts[0] += m.Palette.Dim.Render(" and others")
	}
	return texts[0] + "  "
}
