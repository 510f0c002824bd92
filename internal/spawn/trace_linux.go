package spawn

import (
	"bytes"
	"fmt"
	"strconv"
	"syscall"

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
	counter, filesOnly := []byte("wchar: "), countsBytes(folder)
	if filesOnly {
		counter = []byte("\nwrite_bytes: ")
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	out := map[*Process]Trace{}
	for p, members := range s.tracker.members() {
		sum, seen := Trace(0), true
		for _, m := range members {
			n, ok := readCounter(m.pid, counter)
			sum, seen = sum+Trace(n), seen && ok
		}
		if !filesOnly {
			sum -= Trace(p.shown.Load())
		}
		if seen {
			out[p] = sum
		}
	}
	return out, true
}

// Wrote returns the trace that a process of the run has left at its end, with those
// of its children that it has waited for, once it has ended.
func (p *Process) Wrote(folder string) (Trace, bool) {
	if !p.ended.Load() || !countsBytes(folder) {
		return 0, false
	}
	const block = 512 // getrusage(2) counts in these
	use, ok := p.cmd.ProcessState.SysUsage().(*syscall.Rusage)
	if !ok {
		return 0, false
	}
	return Trace(use.Oublock * block), true
}

func readCounter(pid int, counter []byte) (int64, bool) {
	io, err := readProc(fmt.Sprintf("/proc/%d/io", pid))
	_, rest, ok := bytes.Cut(io, counter)
	if err != nil || !ok {
		return 0, false
	}
	count, _, _ := bytes.Cut(rest, []byte("\n"))
	n, err := strconv.ParseInt(string(count), 10, 64)
	return n, err == nil
}

// countsBytes reports whether the file system counts what a process writes to it
// when it is written.
func countsBytes(folder string) bool {
	var s unix.Statfs_t
	if unix.Statfs(folder, &s) != nil {
		return false
	}
	switch uint32(s.Type) {
	case unix.EXT4_SUPER_MAGIC, unix.XFS_SUPER_MAGIC, unix.BTRFS_SUPER_MAGIC, unix.OVERLAYFS_SUPER_MAGIC, unix.F2FS_SUPER_MAGIC:
		return true
	}
	return false
}
