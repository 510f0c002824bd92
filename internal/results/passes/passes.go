// Package passes recognizes in a tool's output when a round of work begins and how it ends: a compiler in its own
// watch mode, a bundler, any tool that picks up changes by itself. It has no clock and starts nothing: it receives
// lines, with the two moments between which they were written.
package passes

import (
	"strings"
	"time"

	"omnivigil/internal/plan"
	"omnivigil/internal/text/lazyregexp"
)

// Event is the beginning or the end of a pass.
type Event struct {
	Ended bool
	// A beginning was between After and By; an end was after After. Guessed: no line reported the beginning.
	After, By time.Time
	Guessed   bool
	// Of an end: whether the pass was good, and if not, the first message.
	Good bool
	Saw  string
}

// Reader reads the output of one process. It is not safe for concurrent use.
type Reader struct {
	tools []phrases // that it may be; only one when a line has shown which
	open  bool
	since time.Time // the earliest beginning of a pass that no line reports
	saw   string    // the first line of the pass with an error
}

// New returns a reader for a process that was spawned at a time, which begins its first pass.
func New(p plan.Pass, spawned time.Time) (*Reader, []Event) {
	r := &Reader{tools: []phrases{phrasesOf(p)}, since: spawned, open: true}
	if p.Auto {
		r.tools = known()
	}
	return r, []Event{{After: spawned, By: spawned, Guessed: true}}
}

// Read reads a line without colors, with the known lines after it. They were written between two times: after the
// first one, everything written before had been read; at the second one they were read.
func (r *Reader) Read(after, by time.Time, line string, next []string) []Event {
	tool, what := r.recognise(line)
	switch {
	case what == begins:
		r.open, r.saw = true, ""
		return []Event{{After: after, By: by}}
	case what == nothing:
		if r.saw == "" && errorWord.MatchString(line) && !errorCount.MatchString(line) {
			r.saw = short(line)
		}
		return nil
	case !r.open && tool.working != nil:
		return nil // it tells more about the pass that has ended
	}
	var events []Event
	if !r.open {
		events = append(events, Event{After: r.since, By: by, Guessed: true})
	}
	end := Event{Ended: true, After: after, Good: what == endsWell}
	if !end.Good {
		end.Saw = r.firstError(line, next)
	}
	r.open, r.saw, r.since = false, "", after
	return append(events, end)
}

// firstError returns the first error message of a bad pass.
func (r *Reader) firstError(line string, next []string) string {
	if r.saw != "" {
		return r.saw
	}
	if strings.HasSuffix(strings.TrimSpace(line), ":") { // the message follows
		for _, l := range next {
			if strings.TrimSpace(l) != "" {
				return short(line) + " " + short(l)
			}
		}
	}
	return short(line)
}

var (
	errorWord  = lazyregexp.New(`(?i)\berrors?\b`)
	errorCount = lazyregexp.New(`\[\d+ errors?\]`) // next to a file's name, before the message
)

// short limits a line in a message.
func short(line string) string {
	const most = 200
	line = strings.TrimSpace(line)
	if runes := []rune(line); len(runes) > most {
		return string(runes[:most-3]) + "..."
	}
	return line
}

type meaning uint8

const (
	nothing meaning = iota
	begins
	endsWell
	endsBadly
)

// recognise returns the meaning of a line, and the tool. The first line with a meaning determines the tool.
func (r *Reader) recognise(line string) (phrases, meaning) {
	for _, tool := range r.tools {
		if what := tool.meaning(line); what != nothing {
			r.tools = []phrases{tool}
			return tool, what
		}
	}
	return phrases{}, nothing
}
