//go:build !linux

package process

import (
	"net"
	"net/netip"
	"time"
)

type listener struct{}

// Use is what all processes of a run use of the machine.
type Use struct {
	CPU    time.Duration
	Memory int64
}

// Survey finds nothing on this system.
func (s *Spawner) Survey() map[*Process]Use { return nil }

// Listening finds nothing on this system.
func (s *Spawner) Listening(bool) (map[*Process][]netip.AddrPort, bool) { return nil, false }

// Holder tries to listen on the address itself, and so cannot name the process.
func (s *Spawner) Holder(address netip.AddrPort) (who string, taken bool) {
	l, err := net.Listen("tcp", address.String())
	if err != nil {
		return "another process", true
	}
	l.Close()
	return "", false
}

// Listens reports false: it cannot be seen without connecting.
func (s *Spawner) Listens(int) bool { return false }

// Member is one process of a run.
type Member struct {
	PID, Parent int
	Command     string
	Since       time.Time
	CPU         time.Duration
	Memory      int64
}

// Processes finds nothing on this system.
func (s *Spawner) Processes(string) []Member { return nil }
