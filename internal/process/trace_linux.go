package process

import (
	"bytes"
	"strconv"

	"golang.org/x/sys/unix"
)

// Trace is how much a run has written so far, as far as visible. If it has not grown, no file was written in between.
// It begins at 0.
type Trace int64

// Traces returns the trace of each living run with visible processes, and whether this system has traces at all. The
// directory is where the files in question are: most file systems count what is written to them; on others,
// everything counts that is not written to the terminal, so that pipes and sockets leave a trace, too.
//
// The counters are in proc(5), /proc/PID/io. A process's counters include those of its reaped children.
func (s *Spawner) Traces(folder string) (map[*Process]Trace, bool) {
	c := counterFor(folder)
	s.mu.Lock()
	defer s.mu.Unlock()
	out := map[*Process]Trace{}
	for p, members := range s.tracker.members() {
		sum, seen := Trace(0), true
		for _, m := range members {
			io, _ := readProc(ioFile(m.pid))
			n, ok := c.read(io)
			sum, seen = sum+n, seen && ok
		}
		if seen {
			out[p] = c.withoutTerminal(sum, p)
		}
	}
	return out, true
}

// Wrote returns the final trace of a process of the run, with those of its reaped children, once it has ended.
func (p *Process) Wrote(folder string) (Trace, bool) {
	if !p.ended.Load() {
		return 0, false
	}
	c := counterFor(folder)
	n, ok := c.read(p.lastIO)
	return c.withoutTerminal(n, p), ok
}

// awaitEnd waits until the process has ended, and reads what it has written before it is reaped.
func (p *Process) awaitEnd() {
	for unix.Waitid(unix.P_PID, p.PID, nil, unix.WEXITED|unix.WNOWAIT, nil) == unix.EINTR {
	}
	p.lastIO, _ = readProc(ioFile(p.PID))
}

func ioFile(pid int) string { return "/proc/" + strconv.Itoa(pid) + "/io" }

// counter is the line of /proc/PID/io that tells most about a file system.
type counter struct {
	name      string
	filesOnly bool
}

func counterFor(folder string) counter {
	if countsBytes(folder) {
		return counter{"\nwrite_bytes: ", true}
	}
	return counter{"wchar: ", false}
}

func (c counter) read(io []byte) (Trace, bool) {
	_, rest, ok := bytes.Cut(io, []byte(c.name))
	count, _, _ := bytes.Cut(rest, []byte("\n"))
	n, err := strconv.ParseInt(string(count), 10, 64)
	return Trace(n), ok && err == nil
}

func (c counter) withoutTerminal(t Trace, p *Process) Trace {
	if c.filesOnly {
		return t
	}
	return t - Trace(p.shown.Load())
}

// countsBytes reports whether the file system counts what a process writes at the time of the write.
func countsBytes(folder string) bool {
	var s unix.Statfs_t
	if unix.Statfs(folder, &s) != nil {
		return false
	}
	switch uint32(s.Type) {
	case unix.EXT4_SUPER_MAGIC,
		unix.XFS_SUPER_MAGIC,
		unix.BTRFS_SUPER_MAGIC,
		unix.OVERLAYFS_SUPER_MAGIC,
		unix.F2FS_SUPER_MAGIC:
		return true
	}
	return false
}
