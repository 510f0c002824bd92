package tui

import (
	"context"
	"os"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/view"
	"omnivigil/internal/text/escape"
)

// away is what is needed to tell a user who looks elsewhere that the verdict has turned broken
// or stale for good, or that it is current again.
type away struct {
	trouble bool // as it was last seen
	known   bool // it has been

	blurred bool // the terminal has said that it is not looked at
	reports bool // it says such things at all
	used    time.Time
	told    time.Time // when the project was notified of that
}

const (
	// longUnused is how long a screen must not have been used for its person to look elsewhere,
	// where the terminal does not say.
	longUnused = time.Minute
	// usedAgain is how often the project is notified that a screen is used.
	usedAgain = 5 * time.Second
)

// use notes that the user uses this screen.
func (r *root) use() {
	n := &r.away
	n.used = r.Now
	if r.Now.Sub(n.told) < usedAgain ||
		!slices.ContainsFunc(otherFaces(r.Model), func(f api.Face) bool { return f.Kind == view.Kind }) {
		return
	}
	n.told = r.Now
	r.Later(func(ctx context.Context) view.Then {
		r.Project.Do(ctx, api.Request{Action: api.FaceUsed, Face: os.Getpid()})
		return nil
	})
}

// looksElsewhere reports whether the user does not look at this screen.
func (r *root) looksElsewhere() bool {
	if r.away.reports {
		return r.away.blurred
	}
	return r.Now.Sub(r.away.used) > longUnused
}

// isUsedLast reports whether of all screens on the project this one was used last.
func (r *root) isUsedLast() bool {
	var mine, others time.Time
	for _, f := range r.Snap.Faces {
		switch {
		case f.PID == os.Getpid():
			mine = f.UsedAt
		case f.Kind == view.Kind && f.UsedAt.After(others):
			others = f.UsedAt
		}
	}
	return !mine.Before(others)
}

// notify gives notice of what has changed, if that is wanted and this screen is to.
func (r *root) notify() {
	n := &r.away
	changed := n.known && n.trouble != r.Snap.Trouble
	n.trouble, n.known = r.Snap.Trouble, true
	if !changed || r.habits.Notify == "off" || r.Snap.Quitting || r.Snap.Verdict.Word == api.VerdictStopped ||
		!r.looksElsewhere() ||
		!r.isUsedLast() {
		return
	}
	verdict := strings.ToUpper(string(r.Snap.Verdict.Word)) + "  " + r.Snap.Verdict.Text
	r.Run(tea.Raw(notice(r.habits.Notify, os.Getenv, r.Snap.Project.Name, verdict)))
}

// notice is a notice as the terminal takes it: as a desktop notice (OSC 777 as rxvt and VTE have
// it, else OSC 9), or the bell where that is wanted or a multiplexer would swallow the other.
func notice(how string, env func(string) string, title, text string) string {
	title, text = strings.ReplaceAll(escape.Text(title), ";", ","), escape.Text(text)
	term := env("TERM")
	switch {
	case how == "bell" || env("TMUX") != "" || env("STY") != "" || strings.HasPrefix(term, "screen") ||
		strings.HasPrefix(term, "tmux"):
		return "\a"
	case strings.HasPrefix(term, "rxvt") || strings.HasPrefix(term, "foot") || env("VTE_VERSION") != "":
		return "\x1b]777;notify;" + title + ";" + text + "\x1b\\"
	}
	return "\x1b]9;" + title + ": " + text + "\x1b\\"
}
