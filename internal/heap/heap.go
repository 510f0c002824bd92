// Package heap spares a process that makes much garbage and keeps little of it the work of
// looking through its memory again and again.
package heap

import "runtime"

// floor is never read or written, so the system gives it no memory. It only counts: the
// collector waits until the heap has doubled, floor and all.
var floor []byte

// Floor has the collector wait until about so many bytes have been allocated beside what is in
// use. What a large heap may grow to is hardly changed by it, unlike by a higher GOGC. It is to
// be called once, early.
func Floor(bytes int) {
	floor = make([]byte, bytes)
	runtime.KeepAlive(floor)
}
