package run

import (
	"strings"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/text/escape"
)

// LookSoon checks soon whether the run still waits for input: it need not write anything when it has been answered.
func (r *Live) LookSoon() {
	r.reading.Lock()
	defer r.reading.Unlock()
	if r.quiet != nil {
		r.quiet.Reset(PromptPause)
	}
}

// screenRest is how long a program that draws the whole screen must draw nothing to count as waiting for input;
// tables that are redrawn every few seconds are working.
const screenRest = 5 * time.Second

// seeAsk checks whether a run waits for input, when it has written nothing for a moment.
func (r *Live) seeAsk(rested bool) {
	p := r.Process()
	if p == nil || r.over.Err() != nil {
		return
	}
	said := r.scanner.Said()
	asks := said != "" && !goesOn(said)
	reading := p.Reading(asks)
	ask := api.Ask{Since: time.Now().Round(0)}
	switch {
	case !reading.Waits:
	case r.Terminal.Drawing():
		if rested {
			ask.Kind = api.AskScreen
		}
	case reading.Blind:
		ask.Kind, ask.Text = api.AskPassword, said
	case asks:
		ask.Kind, ask.Text = api.AskLine, said
	}
	ask.Text = strings.TrimSpace(r.project.Clean(escape.Strip(ask.Text)))
	r.asked = ask.Kind != ""
	r.project.Asks(r, ask)
}

// goesOn reports whether a line without an end shows progress, and is not a prompt.
func goesOn(text string) bool {
	text = strings.TrimSpace(escape.Strip(text))
	return strings.HasSuffix(text, "...") || strings.HasSuffix(text, "…")
}
