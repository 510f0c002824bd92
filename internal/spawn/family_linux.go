package spawn

import (
	"bytes"
	"fmt"
	"os"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// BecomeSubreaper makes the calling process the parent of all its descendants
// whose own parents have ended, so that none of them can get away by forking
// twice (see prctl(2), PR_SET_CHILD_SUBREAPER).
func BecomeSubreaper() error {
	if err := unix.Prctl(unix.PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0); err != nil {
		return fmt.Errorf("become the parent of orphans: %w", err)
	}
	return nil
}

// member is one process as /proc shows it (see proc(5), stat).
type member struct {
	pid, parent, group, session int
	state                       byte
	born                        uint64 // in clock ticks since the system's start
	ticks                       uint64 // of cpu time used
	pages                       uint64 // resident
}

// readMember returns false when there is no such process any more.
func readMember(pid int) (member, bool) {
	stat, err := readProc("/proc/" + strconv.Itoa(pid) + "/stat")
	if err != nil {
		return member{}, false
	}
	// The name in parentheses may hold anything; fields count from its end.
	fields := bytes.Fields(stat[bytes.LastIndexByte(stat, ')')+1:])
	if len(fields) < 22 {
		return member{}, false
	}
	number := func(i int) uint64 {
		n, _ := strconv.ParseUint(string(fields[i]), 10, 64)
		return n
	}
	return member{
		pid: pid, state: fields[0][0], parent: int(number(1)), group: int(number(2)), session: int(number(3)),
		ticks: number(11) + number(12), born: number(19), pages: number(21),
	}, true
}

// gone reports whether the process does nothing any more, though it may not have
// been collected yet.
func (m member) gone() bool { return m.state == 'Z' || m.state == 'X' }

// descendants returns all below a process, in the order of the tree. It reads the
// kernel's lists of children, and all of /proc where the kernel keeps none.
func descendants(root int) []member {
	below, ok := childrenOf(root)
	if !ok {
		return scanAll(root)
	}
	var all []member
	for i := 0; i < len(below); i++ {
		m, ok := readMember(below[i])
		if !ok {
			continue
		}
		all = append(all, m)
		more, _ := childrenOf(m.pid)
		below = append(below, more...)
	}
	return all
}

// readProc is os.ReadFile for files of /proc with a third of its system calls: dozens
// of them are read whenever a run ends.
func readProc(file string) ([]byte, error) {
	fd, err := unix.Open(file, unix.O_RDONLY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, &os.PathError{Op: "open", Path: file, Err: err}
	}
	defer unix.Close(fd)
	data := make([]byte, 0, 1024)
	for {
		if len(data) == cap(data) {
			data = append(data, 0)[:len(data)]
		}
		n, err := unix.Read(fd, data[len(data):cap(data)])
		switch {
		case err == unix.EINTR:
		case err != nil:
			return nil, &os.PathError{Op: "read", Path: file, Err: err}
		case n == 0:
			return data, nil
		default:
			data = data[:len(data)+n]
		}
	}
}

// childrenOf reads the children of every thread of a process.
func childrenOf(pid int) ([]int, bool) {
	dir := "/proc/" + strconv.Itoa(pid) + "/task"
	threads, err := os.ReadDir(dir)
	if err != nil {
		return nil, true // it is gone
	}
	var pids []int
	for _, thread := range threads {
		data, err := readProc(dir + "/" + thread.Name() + "/children")
		if os.IsNotExist(err) {
			if _, err := os.Stat(dir + "/" + thread.Name()); err == nil {
				return nil, false // the kernel was built without these lists
			}
			continue
		}
		for _, word := range strings.Fields(string(data)) {
			if n, err := strconv.Atoi(word); err == nil {
				pids = append(pids, n)
			}
		}
	}
	return pids, true
}

// scanAll looks for all below a process in the whole of /proc.
func scanAll(root int) []member {
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return nil
	}
	children := map[int][]member{}
	for _, entry := range entries {
		if pid, err := strconv.Atoi(entry.Name()); err == nil {
			if m, ok := readMember(pid); ok {
				children[m.parent] = append(children[m.parent], m)
			}
		}
	}
	var all []member
	for level := children[root]; len(level) > 0; level = level[1:] {
		all = append(all, level[0])
		level = append(level, children[level[0].pid]...)
	}
	return all
}

// mark returns the value of an environment variable that a process was started
// with, as far as it has not overwritten it since.
func mark(pid int, name string) string {
	env, err := readProc("/proc/" + strconv.Itoa(pid) + "/environ")
	if err != nil {
		return ""
	}
	for _, variable := range bytes.Split(env, []byte{0}) {
		if value, ok := bytes.CutPrefix(variable, []byte(name+"=")); ok {
			return string(value)
		}
	}
	return ""
}

// EndDescendants ends every process below the calling one: asks them all to
// terminate, and kills those that are left after the grace. It returns when none
// is left, and collects those it has been made the parent of.
func EndDescendants(grace func() bool) {
	self := os.Getpid()
	asked := map[int]bool{}
	for {
		left := 0
		for _, m := range scanAll(self) {
			if m.parent == self && m.gone() {
				syscall.Wait4(m.pid, nil, syscall.WNOHANG, nil)
				continue
			}
			if m.gone() {
				continue
			}
			left++
			switch {
			case !grace():
				syscall.Kill(m.pid, syscall.SIGKILL)
			case !asked[m.pid]:
				asked[m.pid] = true
				syscall.Kill(m.pid, syscall.SIGTERM)
				syscall.Kill(m.pid, syscall.SIGCONT)
			}
		}
		if left == 0 {
			return
		}
		time.Sleep(5 * time.Millisecond)
	}
}
