// Package heap lets the collector of a process run rarely, and keeps the process small nevertheless.
package heap

import (
	"runtime"
	"runtime/debug"
	"runtime/metrics"
	"sync"
	"time"
)

// A process that allocates much and keeps little of it, as all of ours do while units write, is collected when its heap
// has grown to five times of what it keeps. That must not be much memory, so there is a limit, but one that grows with
// what is kept: near its limit, a process would be collected all the time.
const (
	collectAt = 400 // percent of what is kept
	least     = 32 << 20
	often     = time.Second // between two collections: below, there is more room
)

// limitOf is the limit for what is kept, by the time between two collections. The system collects every two minutes at
// least, so a process that has become quiet becomes small.
func limitOf(kept int64, between time.Duration) int64 {
	room := kept / 4
	if between < often {
		room = kept
	}
	return max(least, kept+room)
}

// Keep applies this to the process from now on.
func Keep() { keep() }

var keep = sync.OnceFunc(func() {
	debug.SetGCPercent(collectAt)
	debug.SetMemoryLimit(least)
	follow(time.Now())
})

// follow adjusts the limit after each collection, the last of which was at a time.
func follow(last time.Time) {
	sentinel := new(*byte) // has a pointer: a tiny object without one may live on with others
	runtime.AddCleanup(sentinel, func(struct{}) {
		sample := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
		metrics.Read(sample)
		now := time.Now()
		adjust(limitOf(int64(sample[0].Value.Uint64()), now.Sub(last)))
		follow(now)
	}, struct{}{})
}

// adjust sets the limit, unless it is about right. Setting it stops the process for a moment.
func adjust(want int64) {
	if now := debug.SetMemoryLimit(-1); want > now || want < now-now/8 {
		debug.SetMemoryLimit(want)
	}
}
