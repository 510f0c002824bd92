package process

import (
	"bytes"
	"strconv"

	"golang.org/x/sys/unix"
)

// Trace is how much a run has written so far, of what can be seen. Where it has not
// grown, no file was written in between. It begins at 0.
type Trace int64

// Traces returns the trace of each living run whose processes let it be seen, and
// whether this system shows traces at all. Folder is where the files in question
// are: most file systems count what is written to them; on others, all counts that
// is not written to the terminal, so that pipes and sockets leave a trace too.
//
// The counters are those of proc(5), /proc/PID/io. A process's own include those of
// its children that have ended.
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

// Wrote returns the trace that a process of the run has left at its end, with those
// of its children that it has waited for, once it has ended.
func (p *Process) Wrote(folder string) (Trace, bool) {
	if !p.ended.Load() {
		return 0, false
	}
	c := counterFor(folder)
	n, ok := c.read(p.lastIO)
	return c.withoutTerminal(n, p), ok
}

// awaitEnd waits until the process has ended, and reads what it has written before
// it is collected.
func (p *Process) awaitEnd() {
	for unix.Waitid(unix.P_PID, p.PID, nil, unix.WEXITED|unix.WNOWAIT, nil) == unix.EINTR {
	}
	p.lastIO, _ = readProc(ioFile(p.PID))
}

func ioFile(pid int) string { return "/proc/" + strconv.Itoa(pid) + "/io" }

// counter is the line of /proc/PID/io that says most of a file system.
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

// countsBytes reports whether the file system counts what a process writes to it
// when it is written.
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
