package engine

import "time"

// timer is the meaning of a TimerID.
type timer struct {
	unit    *unit
	run     int
	purpose purpose
}

type purpose uint8

const (
	livedLongEnough purpose = iota // a service without probes is ready
	notReadyInTime
	graceIsOver
	retryNow
	provenGood // a service has been ready for a while
	passIsDue  // a pass should have begun
	lookoutOver
	overLimit
	unusuallyLong
	livedAsService // a task that may serve has been running for as long as only services do
)

func (e *Engine) setTimer(u *unit, p purpose, after time.Duration) {
	e.lastID++
	run := 0
	if u.run != nil {
		run = u.run.Number
	}
	e.timers[e.lastID] = timer{u, run, p}
	e.emit(SetTimer{e.lastID, after})
}

func (e *Engine) timerFired(ev TimerFired) {
	t, ok := e.timers[ev.Timer]
	delete(e.timers, ev.Timer)
	if !ok || t.unit.run == nil || t.unit.run.Number != t.run {
		return
	}
	e.show(t.unit)
	switch t.purpose {
	case livedLongEnough:
		e.ready(t.unit)
	case livedAsService:
		e.serves(t.unit)
	case overLimit:
		e.endOverLimit(t.unit)
	case unusuallyLong:
		e.isLong(t.unit)
	case notReadyInTime:
		e.notReady(t.unit)
	case graceIsOver:
		e.kill(t.unit)
	case retryNow:
		e.retry(t.unit)
	case passIsDue:
		e.passDue(t.unit)
	case lookoutOver:
		if t.unit.pending != nil {
			t.unit.pending.lookout = Moment{}
			e.enqueue(t.unit)
		}
	case provenGood:
		if t.unit.state == Ready {
			t.unit.deaths = 0
		}
	}
}
