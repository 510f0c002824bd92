package process

import (
	"bytes"
	"fmt"
	"os"
	"strconv"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// BecomeSubreaper makes the calling process the parent of all its descendants whose own parents have ended, so that
// none of them can escape by forking twice (see prctl(2), PR_SET_CHILD_SUBREAPER).
func BecomeSubreaper() error {
	if err := unix.Prctl(unix.PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0); err != nil {
		return fmt.Errorf("become the parent of orphans: %w", err)
	}
	return nil
}

// member is one process, from /proc (see proc(5), stat).
type member struct {
	pid, parent, group, session int // group and session are 0 when it is exiting
	state                       byte
	threads                     int
	born                        uint64 // start time, in clock ticks since boot
	ticks                       uint64 // of CPU time
	pages                       uint64 // resident
}

// readMember returns false if the process does not exist.
func readMember(pid int) (member, bool) {
	stat, err := readProc("/proc/" + strconv.Itoa(pid) + "/stat")
	if err != nil {
		return member{}, false
	}
	// The name in parentheses may contain anything; fields are counted from its end.
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
		threads: int(number(17)), ticks: number(11) + number(12), born: number(19), pages: number(21),
	}, true
}

// gone reports whether the process's first thread has ended. Other threads may still be ending, and hold its files
// and ports a moment longer.
func (m member) gone() bool { return m.state == 'Z' || m.state == 'X' }

// Working reports whether the process or one of its descendants is running or waits for a processor or a disk,
// judging by their first threads.
func (p *Process) Working() bool {
	for _, m := range withDescendants([]int{p.ID()}) {
		if m.state == 'R' || m.state == 'D' {
			return true
		}
	}
	return false
}

// collect reaps a child all of whose threads have ended, and reports whether it is gone.
func collect(pid int) bool {
	n, err := syscall.Wait4(pid, nil, syscall.WNOHANG, nil)
	return n == pid || err == syscall.ECHILD
}

// listsChildren reports whether the kernel was built with lists of children.
var listsChildren = sync.OnceValue(func() bool {
	_, err := os.Stat(childrenFile(os.Getpid(), strconv.Itoa(os.Getpid())))
	return err == nil
})

func childrenFile(pid int, thread string) string {
	return "/proc/" + strconv.Itoa(pid) + "/task/" + thread + "/children"
}

// adopted returns the orphans that have become children of the calling process, and some of its other children. It
// may miss some while others are ending.
//
// The kernel gives orphans to the first living thread (kernel/exit.c, find_alive_thread), which in a Go program is
// always the same.
func adopted() []int {
	self := os.Getpid()
	if !listsChildren() {
		return scanChildren()(member{pid: self})
	}
	list, _ := rereadProc(ownChildren())
	return numbers(list)
}

// ownChildren is the open list of the children of the first thread.
var ownChildren = sync.OnceValue(func() int {
	self := os.Getpid()
	fd, err := unix.Open(childrenFile(self, strconv.Itoa(self)), unix.O_RDONLY|unix.O_CLOEXEC, 0)
	if err != nil {
		return -1
	}
	return fd
})

// withDescendants returns processes and all their descendants. It may miss some while others are ending.
func withDescendants(pids []int) []member {
	if listsChildren() {
		return walk(pids, childrenOf)
	}
	return walk(pids, scanChildren())
}

// walk returns processes and all their descendants, parents first and each once.
func walk(pids []int, children func(member) []int) []member {
	var all []member
	seen := map[int]bool{}
	for i := 0; i < len(pids); i++ {
		m, ok := readMember(pids[i])
		if !ok || seen[m.pid] {
			continue
		}
		seen[m.pid] = true
		all = append(all, m)
		pids = append(pids, children(m)...)
	}
	return all
}

// readProc is os.ReadFile for files of /proc, with a third of its system calls: dozens of them are read whenever a
// run ends.
func readProc(file string) ([]byte, error) {
	fd, err := unix.Open(file, unix.O_RDONLY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, &os.PathError{Op: "open", Path: file, Err: err}
	}
	defer unix.Close(fd)
	data, err := rereadProc(fd)
	if err != nil {
		return nil, &os.PathError{Op: "read", Path: file, Err: err}
	}
	return data, nil
}

// rereadProc reads an open file of /proc from its beginning, with what it contains now.
func rereadProc(fd int) ([]byte, error) {
	data := make([]byte, 0, 1024)
	for {
		if len(data) == cap(data) {
			data = append(data, 0)[:len(data)]
		}
		n, err := unix.Pread(fd, data[len(data):cap(data)], int64(len(data)))
		switch {
		case err == unix.EINTR:
		case err != nil:
			return nil, err
		case n == 0:
			return data, nil
		default:
			data = data[:len(data)+n]
		}
	}
}

// childrenOf reads the children of every thread of a process.
func childrenOf(m member) []int {
	if m.threads == 1 {
		return childrenOfThread(m.pid, strconv.Itoa(m.pid))
	}
	var pids []int
	for _, thread := range threads(m.pid) {
		pids = append(pids, childrenOfThread(m.pid, thread.Name())...)
	}
	return pids
}

func childrenOfThread(pid int, thread string) []int {
	list, _ := readProc(childrenFile(pid, thread))
	return numbers(list)
}

func threads(pid int) []os.DirEntry {
	all, _ := os.ReadDir("/proc/" + strconv.Itoa(pid) + "/task")
	return all
}

func numbers(text []byte) []int {
	var all []int
	for _, word := range bytes.Fields(text) {
		if n, err := strconv.Atoi(string(word)); err == nil {
			all = append(all, n)
		}
	}
	return all
}

// scanChildren reads the parents of all processes in /proc, and returns a function for the children of a process.
func scanChildren() func(member) []int {
	entries, _ := os.ReadDir("/proc")
	children := map[int][]int{}
	for _, entry := range entries {
		if pid, err := strconv.Atoi(entry.Name()); err == nil {
			if m, ok := readMember(pid); ok {
				children[m.parent] = append(children[m.parent], pid)
			}
		}
	}
	return func(m member) []int { return children[m.pid] }
}

// mark returns the value of an environment variable that a process was started with, if it has not overwritten it.
func mark(pid int, name string) string {
	for variable := range bytes.SplitSeq(environ(pid), []byte{0}) {
		if value, ok := bytes.CutPrefix(variable, []byte(name+"=")); ok {
			return string(value)
		}
	}
	return ""
}

// environ returns the environment that a process was started with. The first thread no longer shows it once it has
// ended; the others do.
func environ(pid int) []byte {
	dir := "/proc/" + strconv.Itoa(pid)
	if env, _ := readProc(dir + "/environ"); len(env) > 0 {
		return env
	}
	for _, thread := range threads(pid) {
		if env, _ := readProc(dir + "/task/" + thread.Name() + "/environ"); len(env) > 0 {
			return env
		}
	}
	return nil
}

// EndDescendants ends every descendant of the calling process: it sends SIGTERM to all of them, and after the grace
// period SIGKILL. It returns when none is left, and reaps those that were adopted.
func EndDescendants(grace func() bool) {
	asked := map[int]bool{}
	for hasChildren() {
		within := grace()
		if !within {
			clear(asked)
		}
		// Frozen first: a process that starts another one and exits would always be a step ahead.
		for _, target := range freezeDescendants(asked) {
			if !within {
				syscall.Kill(target, syscall.SIGKILL)
				continue
			}
			asked[target] = true
			syscall.Kill(target, syscall.SIGTERM)
			syscall.Kill(target, syscall.SIGCONT)
		}
		time.Sleep(2 * time.Millisecond)
	}
}

// freezeDescendants stops every descendant of the calling process that has not been told to end, until a look finds
// no new one. It returns what to signal (see kill(2)): whole process groups, as negative numbers, because the kernel
// signals all of a group at once, but single processes if the group may have others. It reaps those that have ended.
func freezeDescendants(asked map[int]bool) []int {
	frozen := map[int]bool{}
	var all []int
	for again := true; again; {
		again = false
		for _, m := range descendants() {
			target := -m.group
			if m.group == 0 || m.session == ownSession() {
				target = m.pid
			}
			if m.gone() && m.parent == os.Getpid() {
				collect(m.pid)
			}
			if asked[target] || frozen[target] || m.gone() && target > 0 {
				continue
			}
			frozen[target] = true
			if syscall.Kill(target, syscall.SIGSTOP) == nil {
				again = true
				all = append(all, target)
			}
		}
	}
	return all
}

// descendants returns all descendants of the calling process, except some that are just being created.
func descendants() []member {
	self, _ := readMember(os.Getpid())
	if listsChildren() {
		return walk(childrenOf(self), childrenOf)
	}
	children := scanChildren()
	return walk(children(self), children)
}

// hasChildren reports whether the calling process has a child, living or not reaped: as the parent of orphans it has
// one as long as it has any descendant.
func hasChildren() bool {
	err := unix.Waitid(unix.P_ALL, 0, nil, unix.WEXITED|unix.WNOHANG|unix.WNOWAIT|unix.WALL, nil)
	return err != unix.ECHILD
}
