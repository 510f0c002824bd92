package spawn

import (
	"bytes"
	"fmt"
	"os"
	"slices"
	"strings"

	"golang.org/x/sys/unix"
)

// Trace is what can be seen of what a run has written to files so far. Two that are
// equal mean that nothing was written in between.
type Trace string

// Traces returns the trace of each living run whose processes let it be seen, and
// whether this system shows traces at all. Folder is where the files in question
// are: on most file systems, writing to a terminal can be told from writing to a
// file; on others, either leaves a trace.
//
// The counters are those of proc(5), /proc/PID/io. A process's own include those of
// its children that have ended; that processes come or go is a trace, too.
func (s *Spawner) Traces(folder string) (map[*Process]Trace, bool) {
	counter := []byte("syscw: ")
	if countsBytes(folder) {
		counter = []byte("\nwrite_bytes: ")
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	out := map[*Process]Trace{}
	for p, members := range s.tracker.members() {
		var parts []string
		for _, m := range members {
			io, err := os.ReadFile(fmt.Sprintf("/proc/%d/io", m.pid))
			_, rest, ok := bytes.Cut(io, counter)
			if err != nil || !ok {
				parts = nil
				break
			}
			count, _, _ := bytes.Cut(rest, []byte("\n"))
			parts = append(parts, fmt.Sprintf("%d %d %s", m.pid, m.born, count))
		}
		if len(parts) > 0 {
			slices.Sort(parts)
			out[p] = Trace(strings.Join(parts, "; "))
		}
	}
	return out, true
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
