// Package yield lets a face ask the process that runs a project to leave it the processors for a moment. While units
// write as fast as they can, they and their reader keep every processor busy, and a face would wait several times until
// it has shown what a key does. Units that are not read wait.
//
// A message would come too late: its receiver would have to wait for a processor, too. So the two share a page of
// memory, with the time until which the face asks.
package yield

import (
	"sync/atomic"
	"time"
)

// Longest is for how long a face can ask. What it does for a key takes a few milliseconds.
const Longest = 25 * time.Millisecond

// Page is the shared memory. A nil Page asks nobody, and nobody asks through it. Its methods may be called from any
// goroutine.
type Page struct{ until *atomic.Int64 } // in nanoseconds since 1970; 0: nobody asks

// Ask asks until Done, at most for Longest.
func (p *Page) Ask() {
	if p != nil {
		p.until.Store(time.Now().Add(Longest).UnixNano())
	}
}

// Done takes back what any face has asked.
func (p *Page) Done() {
	if p != nil {
		p.until.Store(0)
	}
}

// Wait blocks while a face asks, but at most for Longest.
func (p *Page) Wait() {
	if p == nil {
		return
	}
	const step = time.Millisecond
	for range Longest / step {
		left := p.until.Load() - time.Now().UnixNano()
		if left <= 0 || left > int64(Longest) { // more: the clock was set
			return
		}
		time.Sleep(step)
	}
}
