package relay

import (
	"sync"
	"time"
)

// counts count requests.
type counts struct {
	mu            sync.Mutex
	total, failed int64
	recent        [10]int64 // of each of the last seconds, by its number modulo ten
	newest        int64     // the number of the newest of these
}

func (c *counts) add() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.total++
	c.recent[c.reach(time.Now().Unix())]++
}

// reach drops seconds that are over, and returns the index of one.
func (c *counts) reach(second int64) int64 {
	n := int64(len(c.recent))
	if second-c.newest > n {
		c.newest = second - n
	}
	for ; c.newest < second; c.newest++ {
		c.recent[(c.newest+1)%n] = 0
	}
	return second % n
}

func (c *counts) fail() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.failed++
}

// Traffic is the requests to a Server.
type Traffic struct {
	Requests  int64
	Failed    int64   // answered with an error of the server's own
	PerSecond float64 // the average of the last ten seconds
}

// Traffic returns the requests so far.
func (s *Server) Traffic() Traffic {
	c := &s.counts
	c.mu.Lock()
	defer c.mu.Unlock()
	c.reach(time.Now().Unix())
	var sum int64
	for _, n := range c.recent {
		sum += n
	}
	return Traffic{c.total, c.failed, float64(sum) / float64(len(c.recent))}
}
