package spawn

import (
	"bytes"
	"os"
	"strconv"
	"syscall"
)

// alive reports whether the group has a member that is not a zombie. Where the
// group's orphans are handed to a process that reaps late or never, the signal
// check alone would wait for ever, so /proc decides then (see proc(5), stat).
func (g group) alive() bool {
	if syscall.Kill(-int(g), 0) == syscall.ESRCH {
		return false
	}
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return true
	}
	for _, entry := range entries {
		if _, err := strconv.Atoi(entry.Name()); err != nil {
			continue
		}
		stat, err := os.ReadFile("/proc/" + entry.Name() + "/stat")
		if err != nil {
			continue
		}
		// The name in parentheses may hold anything; fields count from its end.
		fields := bytes.Fields(stat[bytes.LastIndexByte(stat, ')')+1:])
		if len(fields) > 2 && string(fields[2]) == strconv.Itoa(int(g)) && fields[0][0] != 'Z' && fields[0][0] != 'X' {
			return true
		}
	}
	return false
}
