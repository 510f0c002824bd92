package process

import (
	"bufio"
	"cmp"
	"encoding/hex"
	"fmt"
	"net/netip"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"
)

// clockTick is the unit of CPU times in /proc: 100 a second on every architecture that Go supports.
const clockTick = 10 * time.Millisecond

// Use is what all processes of a run use of the machine.
type Use struct {
	CPU    time.Duration // since each process started
	Memory int64         // resident bytes
}

// Survey returns what each living run uses of the machine.
func (s *Spawner) Survey() map[*Process]Use {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := map[*Process]Use{}
	for p, members := range s.tracker.members() {
		var u Use
		for _, m := range members {
			u.CPU += time.Duration(m.ticks) * clockTick
			u.Memory += int64(m.pages) * int64(os.Getpagesize())
		}
		out[p] = u
	}
	return out
}

// listener is a TCP socket that accepts connections.
type listener struct {
	address netip.AddrPort
	inode   string
}

// takes reports whether no other process can listen on the address while this one does: it is the same, or one of the
// two is the wildcard address.
func (l listener) takes(address netip.AddrPort) bool {
	mine, other := l.address.Addr(), address.Addr()
	return l.address.Port() == address.Port() && (mine == other || mine.IsUnspecified() || other.IsUnspecified())
}

// listenersFromProc reads the system's listening sockets if there are no socket diagnostics (see proc(5), net/tcp).
func listenersFromProc() []listener {
	var all []listener
	for _, file := range []string{"/proc/net/tcp", "/proc/net/tcp6"} {
		f, err := os.Open(file)
		if err != nil {
			continue
		}
		lines := bufio.NewScanner(f)
		for lines.Scan() {
			fields := strings.Fields(lines.Text())
			const listening = "0A"
			if len(fields) > 9 && fields[3] == listening {
				if address, ok := parseAddress(fields[1]); ok {
					all = append(all, listener{address, fields[9]})
				}
			}
		}
		f.Close()
	}
	return all
}

// parseAddress parses an address as the kernel writes it: 32-bit words in the machine's byte order, which is
// little-endian on all supported ones.
func parseAddress(text string) (netip.AddrPort, bool) {
	host, port, ok := strings.Cut(text, ":")
	raw, err := hex.DecodeString(host)
	if !ok || err != nil || len(raw)%4 != 0 {
		return netip.AddrPort{}, false
	}
	for i := 0; i < len(raw); i += 4 {
		slices.Reverse(raw[i : i+4])
	}
	address, ok := netip.AddrFromSlice(raw)
	n, err := strconv.ParseUint(port, 16, 16)
	return netip.AddrPortFrom(address.Unmap(), uint16(n)), ok && err == nil
}

// sockets returns the inodes of a process's sockets.
func sockets(pid int) map[string]bool {
	dir := "/proc/" + strconv.Itoa(pid) + "/fd"
	entries, err := os.ReadDir(dir)
	if err != nil {
		return nil
	}
	inodes := map[string]bool{}
	for _, entry := range entries {
		target, err := os.Readlink(dir + "/" + entry.Name())
		if inode, ok := strings.CutPrefix(target, "socket:["); err == nil && ok {
			inodes[strings.TrimSuffix(inode, "]")] = true
		}
	}
	return inodes
}

// Listening returns the addresses on which each living run accepts TCP connections, in order. It returns false, and
// looks at no process, if the system's listening sockets are the same as at the last call, unless anyway is set.
func (s *Spawner) Listening(anyway bool) (map[*Process][]netip.AddrPort, bool) {
	all := listeners()
	slices.SortFunc(all, func(a, b listener) int { return strings.Compare(a.inode, b.inode) })
	s.mu.Lock()
	defer s.mu.Unlock()
	if !anyway && s.seen != nil && slices.Equal(all, s.seen) {
		return nil, false
	}
	s.seen = all
	out := map[*Process][]netip.AddrPort{}
	for p, members := range s.tracker.members() {
		for _, m := range members {
			have := sockets(m.pid)
			for _, l := range all {
				if have[l.inode] && !slices.Contains(out[p], l.address) {
					out[p] = append(out[p], l.address)
				}
			}
		}
		slices.SortFunc(out[p], netip.AddrPort.Compare)
	}
	return out, true
}

// Holder describes the process that would get TCP connections to an address, and returns whether there is one. The
// process is named if the system shows it.
func (s *Spawner) Holder(address netip.AddrPort) (who string, taken bool) {
	for _, l := range listeners() {
		if !l.takes(address) {
			continue
		}
		pids, _ := os.ReadDir("/proc")
		for _, entry := range pids {
			pid, err := strconv.Atoi(entry.Name())
			if err != nil || !sockets(pid)[l.inode] {
				continue
			}
			name, _ := os.ReadFile("/proc/" + entry.Name() + "/comm")
			who = fmt.Sprintf("process %d (%s)", pid, strings.TrimSpace(string(name)))
			if unit := mark(pid, "OMNIVIGIL_UNIT"); unit != "" {
				who += " of unit " + unit
			}
			return who, true
		}
		return "a process that cannot be seen from here", true
	}
	return "", false
}

// Listens reports whether some process listens on a TCP port of this machine, as far as can be seen without connecting:
// a container's ports may be forwarded by the kernel.
func (s *Spawner) Listens(port int) bool {
	local := netip.AddrPortFrom(netip.IPv4Unspecified(), uint16(port))
	return slices.ContainsFunc(listeners(), func(l listener) bool {
		return l.takes(local) && (l.address.Addr().IsLoopback() || l.address.Addr().IsUnspecified())
	})
}

// Member is one process of a run.
type Member struct {
	PID, Parent int
	Command     string
	Since       time.Time
	CPU         time.Duration // since its start
	Memory      int64         // resident bytes
}

// Processes returns the living processes of the run with a name, parents before their children. It reads /proc, and
// so blocks for a moment.
func (s *Spawner) Processes(name string) []Member {
	s.mu.Lock()
	var all []member
	for p, members := range s.tracker.members() {
		if p.Name() == name {
			all = append(all, members...)
		}
	}
	s.mu.Unlock()
	slices.SortFunc(
		all,
		func(a, b member) int { return cmp.Or(cmp.Compare(a.born, b.born), cmp.Compare(a.pid, b.pid)) },
	)
	boot := booted()
	out := make([]Member, len(all))
	for i, m := range all {
		line, _ := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", m.pid))
		out[i] = Member{
			PID: m.pid, Parent: m.parent, Command: strings.TrimSpace(strings.ReplaceAll(string(line), "\x00", " ")),
			Since: boot.Add(time.Duration(m.born) * clockTick), CPU: time.Duration(m.ticks) * clockTick,
			Memory: int64(m.pages) * int64(os.Getpagesize()),
		}
	}
	return out
}

// booted is the boot time of the system (see proc(5), uptime).
func booted() time.Time {
	text, _ := os.ReadFile("/proc/uptime")
	var seconds float64
	fmt.Sscan(string(text), &seconds)
	return time.Now().Add(-time.Duration(seconds * float64(time.Second)))
}
