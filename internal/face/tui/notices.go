package tui

import (
	"context"
	"os"
	"slices"
	"strings"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/view"
	"omnivigil/internal/text/escape"
)

// away is what decides about notices to a user who is looking elsewhere: that the verdict has become broken or stale,
// or that it is current again.
type away struct {
	trouble bool // in the last snapshot
	known   bool // there was a snapshot

	blurred bool // the terminal has reported that it lost the focus
	reports bool // it reports the focus
	used    time.Time
	told    time.Time // when the project was last notified of that
}

const (
	// longUnused is the time without a key after which the user is assumed to look elsewhere, if the terminal does not
	// report the focus.
	longUnused = time.Minute
	// usedAgain is how often the project is notified that this screen is used.
	usedAgain = 5 * time.Second
)

// use records that the user uses this screen, and tells the project if it has other screens.
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

// looksElsewhere reports whether the user is looking elsewhere.
func (r *root) looksElsewhere() bool {
	if r.away.reports {
		return r.away.blurred
	}
	return r.Now.Sub(r.away.used) > longUnused
}

// isUsedLast reports whether this is the screen on the project that was used last.
func (r *root) isUsedLast() bool {
	var mine, others time.Time
	for _, f := range r.Live.Faces {
		switch {
		case f.PID == os.Getpid():
			mine = f.UsedAt
		case f.Kind == view.Kind && f.UsedAt.After(others):
			others = f.UsedAt
		}
	}
	return !mine.Before(others)
}

// notify sends a notice if the verdict has changed, the user is looking elsewhere, and no other screen was used later.
func (r *root) notify() {
	n := &r.away
	changed := n.known && n.trouble != r.Live.Trouble
	n.trouble, n.known = r.Live.Trouble, true
	if !changed || r.habits.Notify == "off" || r.Live.Quitting || r.Live.Verdict.Word == api.VerdictStopped ||
		!r.looksElsewhere() ||
		!r.isUsedLast() {
		return
	}
	verdict := strings.ToUpper(string(r.Live.Verdict.Word)) + "  " + r.Live.Verdict.Text
	r.Run(view.Tell(notice(r.habits.Notify, os.Getenv, r.Live.Project.Name, verdict)))
}

// notice is the sequence for a notice: a desktop notice (OSC 777 in rxvt, foot and VTE terminals, otherwise OSC 9), or
// the bell if the user prefers it or a multiplexer would discard the notice.
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
