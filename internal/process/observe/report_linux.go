//go:build amd64 || arm64

package observe

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"sync/atomic"
	"unsafe"

	"golang.org/x/sys/unix"
)

// notification and response are the kernel's struct seccomp_notif and seccomp_notif_resp (linux/seccomp.h).
type notification struct {
	id     uint64
	thread uint32
	flags  uint32
	number int32
	arch   uint32
	ip     uint64
	args   [6]uint64
}

type response struct {
	id    uint64
	value int64
	err   int32
	flags uint32
}

// reporter receives the calls of a run's processes.
type reporter struct {
	listener int
	log      *Log
	finder   *finder
	memory   memory
	bounded  bool
	denied   atomic.Bool // the first process could not be read

	calls [2]map[int32]*call // by number, in the native and the other ABI
	news  []news             // of the current call
	after func()             // what else is to be done when it has continued
}

// news is an access that a call will make.
type news struct {
	name   string
	access Access
}

func newReporter(listener int, l *Log) *reporter {
	r := &reporter{listener: listener, log: l, finder: newFinder(l.root)}
	for i, abi := range []int{nativeABI, compatABI} {
		r.calls[i] = map[int32]*call{}
		for j := range calls {
			if number := calls[j].numbers[abi]; number != none {
				r.calls[i][int32(number)] = &calls[j]
			}
		}
	}
	return r
}

// run handles calls until no process is left that has the filter. It keeps a thread, which waits in the kernel: waking
// it directly is what makes a report cheap.
func (r *reporter) run() {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	defer unix.Close(r.listener)
	// Since Linux 6.6 the kernel can wake the reporter on the processor of the process that waits for it.
	unix.Syscall(unix.SYS_IOCTL, uintptr(r.listener), unix.SECCOMP_IOCTL_NOTIF_SET_FLAGS,
		unix.SECCOMP_USER_NOTIF_FD_SYNC_WAKE_UP)
	for r.wait() {
		n := notification{}
		if !r.ioctl(unix.SECCOMP_IOCTL_NOTIF_RECV, unsafe.Pointer(&n)) {
			continue // it was killed in between
		}
		r.news, r.after = r.news[:0], nil
		r.hear(&n)
		answer := response{id: n.id, flags: unix.SECCOMP_USER_NOTIF_FLAG_CONTINUE}
		if !r.ioctl(unix.SECCOMP_IOCTL_NOTIF_SEND, unsafe.Pointer(&answer)) {
			continue // killed: what was read may have been of another process with its number
		}
		for _, news := range r.news {
			r.log.access(news.name, news.access)
		}
		if r.after != nil {
			r.after()
		}
	}
}

// wait waits for a call, and returns false when no process is left. Receiving alone would block forever then, before
// Linux 6.11.
func (r *reporter) wait() bool {
	for {
		on := []unix.PollFd{{Fd: int32(r.listener), Events: unix.POLLIN}}
		_, err := unix.Poll(on, -1)
		switch {
		case err == unix.EINTR:
		case err != nil:
			return false
		case on[0].Revents&unix.POLLIN != 0:
			return true
		default:
			return false
		}
	}
}

// ioctl reports whether the request was carried out.
func (r *reporter) ioctl(request uintptr, arg unsafe.Pointer) bool {
	for {
		_, _, number := unix.Syscall(unix.SYS_IOCTL, uintptr(r.listener), request, uintptr(arg))
		if number != unix.EINTR {
			return number == 0
		}
	}
}

// forbidden returns an error if the memory of the observed process cannot be read, as the kernel's settings may say.
func (r *reporter) forbidden() error {
	if !r.denied.Load() {
		return nil
	}
	return fmt.Errorf("%w: the system forbids reading the memory of processes; set kernel.yama.ptrace_scope to 1 or "+
		"less, or give the container the capability SYS_PTRACE", ErrUnavailable)
}

// hear finds out what a call will do.
func (r *reporter) hear(n *notification) {
	c, pointer := r.calls[0][n.number], 8
	if n.arch == compatArch {
		c, pointer = r.calls[1][n.number], 4
	}
	if c == nil {
		return
	}
	act := action{reporter: r, call: c, thread: int(n.thread), given: n.args, pointer: pointer}
	err := act.hear()
	if errors.Is(err, unix.EPERM) || errors.Is(err, unix.EACCES) {
		if c.kind == executes {
			r.denied.Store(true)
		}
		r.log.unreadable(nameOf(act.thread))
	}
}

// add notes an access that is recorded when the call has continued.
func (r *reporter) add(at found, a Access) { r.news = append(r.news, news{at.name, a}) }

// maxMoved limits the files of a renamed directory that are recorded.
const maxMoved = 20_000

// moved records what has got a new name with its directory.
func (r *reporter) moved(at found) {
	n := 0
	filepath.WalkDir(at.path, func(path string, _ fs.DirEntry, err error) error {
		name, below := r.finder.below(path)
		if n++; err != nil || !below || n > maxMoved {
			return fs.SkipAll
		}
		if path != at.path {
			r.log.access(name, Created|Written)
		}
		return nil
	})
}

// program records the execution of a program.
func (r *reporter) program(path string, argv []string) {
	info, err := os.Stat(path)
	privileged := err == nil && r.bounded && info.Mode()&(os.ModeSetuid|os.ModeSetgid) != 0
	r.after = func() { r.log.executed(Program{path, argv, privileged}) }
}
