package server

import (
	"slices"
	"sync"
)

// shared has the newest answers that several faces ask for at about the same time, so that each is made once. Its
// methods may be called from any goroutine.
type shared struct {
	mu     sync.Mutex
	recent [8]*sharedAnswer
	next   int // in recent: the oldest one
}

type sharedAnswer struct {
	key  string
	once sync.Once
	data []byte
	err  error
}

// largestShared limits how many bytes of an answer are kept for others.
const largestShared = 256 << 10

// get returns the answer with a key, which is made if nobody has asked for it; answer is not called at the same time as
// for others who ask for it. An answer whose making has failed, for example because who has asked is gone, is made
// for each.
func (s *shared) get(key string, answer func() ([]byte, error)) ([]byte, error) {
	a := s.of(key)
	first := false
	a.once.Do(func() {
		first = true
		if a.data, a.err = answer(); a.err != nil || len(a.data) > largestShared {
			s.forget(a)
		}
	})
	if a.err != nil && !first {
		return answer()
	}
	return a.data, a.err
}

func (s *shared) forget(a *sharedAnswer) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if i := slices.Index(s.recent[:], a); i >= 0 {
		s.recent[i] = nil
	}
}

func (s *shared) of(key string) *sharedAnswer {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, a := range s.recent {
		if a != nil && a.key == key {
			return a
		}
	}
	a := &sharedAnswer{key: key}
	s.recent[s.next] = a
	s.next = (s.next + 1) % len(s.recent)
	return a
}
