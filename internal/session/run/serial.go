package run

import (
	"runtime"
	"sync"
)

// serial runs what may block, in order, in its own goroutine while there is something to do: spawning and signalling
// wait for the system, and the loop must not.
type serial struct {
	mu   sync.Mutex
	todo []func()
	busy bool
}

// do runs a function after all earlier ones. It does not block, but gives up the processor: what a save sets off should
// not wait until the caller has done the rest of its work, or another processor has woken up.
func (s *serial) do(something func()) {
	s.mu.Lock()
	s.todo = append(s.todo, something)
	idle := !s.busy
	s.busy = true
	s.mu.Unlock()
	if idle {
		go s.work()
		runtime.Gosched()
	}
}

func (s *serial) work() {
	for {
		s.mu.Lock()
		if len(s.todo) == 0 {
			s.busy = false
			s.mu.Unlock()
			return
		}
		next := s.todo[0]
		s.todo = s.todo[1:]
		s.mu.Unlock()
		next()
	}
}
