// Package pace lets what arrives in small pieces without end gather for a moment: waking up for each piece costs more
// than all the rest.
package pace

import "time"

// Pace decides how long a reader waits before its next read. A burst is read without waiting.
type Pace struct {
	Slow  time.Duration // the time between two reads below which the reader is busy
	Pause time.Duration // how long it waits then
	Few   int           // bytes: with more in one read, the reader is not to wait, or the writer would wait for it
	Burst int           // how many reads a burst has at most

	level float64 // rises with each read, falls with the time between
}

// After returns how long to wait after a read that waited so long and returned so many bytes.
func (p *Pace) After(waited time.Duration, bytes int) time.Duration {
	full := float64(p.Burst)
	p.level = min(max(p.level-float64(waited)/float64(p.Slow), 0)+1, 2*full)
	if p.level < full || bytes > p.Few {
		return 0
	}
	return p.Pause
}
