//go:build !linux

package spawn

import (
	"fmt"
	"net"
	"net/netip"
	"time"
)

type listener struct{}

// Use is what a run's processes take of the machine, all together.
type Use struct {
	CPU    time.Duration
	Memory int64
}

// Survey finds nothing here.
func (s *Spawner) Survey() map[*Process]Use { return nil }

// Listening finds nothing here.
func (s *Spawner) Listening(bool) (map[*Process][]netip.AddrPort, bool) { return nil, false }

// Holder tries to listen on the port itself, and so cannot say who does.
func (s *Spawner) Holder(port int) (who string, taken bool) {
	l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
	if err != nil {
		return "another process", true
	}
	l.Close()
	return "", false
}
