package run

import (
	"bytes"
	"sync/atomic"
	"time"

	"omnivigil/internal/engine"
	"omnivigil/internal/results/passes"
)

// passWatch follows the passes of a run whose unit picks up changes by itself.
type passWatch struct {
	allRead atomic.Int64 // when everything that the process had written was read, in nanoseconds since Live.began

	// Guarded by Live.reading.
	reader  *passes.Reader // nil: the unit has no passes
	midLine bool           // the newest line is unfinished
	begun   time.Time      // allRead when it was begun
}

// expectPasses starts following the passes of a process that is about to be spawned, and returns what is known of its
// first pass.
func (r *Live) expectPasses() []passes.Event {
	if r.Unit.Pass == nil {
		return nil
	}
	r.reading.Lock()
	defer r.reading.Unlock()
	now := time.Now()
	r.passes.allRead.Store(int64(now.Sub(r.Began)))
	r.passes.midLine = false
	var first []passes.Event
	r.passes.reader, first = passes.New(*r.Unit.Pass, now)
	return first
}

// onTheWay is how long output of a process may take through the system until it can be read.
const onTheWay = 10 * time.Millisecond

// ReadUpTo records when everything that the process had written by now has been read: what is read later was written
// later. It does not block.
func (r *Live) ReadUpTo(now time.Time) {
	const look, looks = time.Millisecond, 100
	p := r.Process()
	if p == nil {
		return
	}
	var try func(left int)
	try = func(left int) {
		at := time.Now().Add(-onTheWay + 1)
		switch {
		case p.AllRead():
			r.passes.allRead.Store(max(r.passes.allRead.Load(), int64(at.Sub(r.Began))))
		case left > 0: // it writes all the time, or the machine is busy
			time.AfterFunc(look, func() { try(left - 1) })
		}
	}
	time.AfterFunc(time.Until(now)+onTheWay, func() { try(looks) })
}

// after returns a time after which everything was written that completes in a chunk of output. The caller holds
// Live.reading.
func (r *Live) after(chunk []byte) time.Time {
	w := &r.passes
	now := r.Began.Add(time.Duration(w.allRead.Load()))
	after := now
	if w.midLine {
		after = w.begun
	}
	if end := bytes.LastIndexByte(chunk, '\n'); end == len(chunk)-1 {
		w.midLine = false
	} else if end >= 0 || !w.midLine {
		w.midLine, w.begun = true, now
	}
	return after
}

// readPasses checks a line that was written after a time for passes; next are the lines that are known to follow it.
func (r *Live) readPasses(after time.Time, line string, next []string) {
	if r.passes.reader == nil {
		return
	}
	if events := r.passes.reader.Read(after, time.Now(), line, next); len(events) > 0 {
		<-r.announced // the engine must know the process first
		r.tellPasses(events)
	}
}

func (r *Live) tellPasses(events []passes.Event) {
	for _, ev := range events {
		fails, saw := r.passRead(ev.Ended, ev.Good)
		if fails {
			ev.Good, ev.Saw = false, saw
		}
		if ev.Ended {
			if r.tracking.reader != nil {
				r.tracking.report(false)
			}
			r.project.Send(engine.PassEnded{Unit: r.Unit.Name, Run: r.Number, Good: ev.Good, Saw: ev.Saw,
				After: r.project.Moment(ev.After)})
		} else {
			r.project.Send(
				engine.PassBegan{
					Unit:    r.Unit.Name,
					Run:     r.Number,
					After:   r.project.Moment(ev.After),
					By:      r.project.Moment(ev.By),
					Guessed: ev.Guessed,
				},
			)
		}
	}
}
