//go:build amd64 || arm64

package observe

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"unsafe"

	"golang.org/x/sys/unix"
)

// A filter can only be set by the process that it is for, and Go cannot run code between fork and exec. So the command
// starts as this program, which sets the filter, sends the listener to its parent, and executes the command.

// stubName is the name by which the program recognizes that it is to do that. Its first argument is the path of the
// command, and the rest are the command's arguments.
const stubName = "omnivigil: prepares observation"

// stubSocket is where the stub sends its messages: the first file after the standard ones.
const stubSocket = 3

// The stub's messages: a letter, and for the last two the number of an error (see errno(3)).
const (
	toldSet        = 's' // with the listener
	toldSetBounded = 'p' // the same; the process and its descendants cannot gain privileges
	toldNotSet     = 'f'
	toldNotRun     = 'x'
)

// The stub runs before main and before most other packages are initialized, in every program that can observe: a
// program that was started by Prepare must not do anything else.
func init() {
	if os.Args[0] == stubName && len(os.Args) > 2 {
		beStub(os.Args[1], os.Args[2:])
	}
}

// beStub does not return. The runtime keeps an init function on the process's first thread, and the filter is set for
// the thread that executes the command.
func beStub(path string, argv []string) {
	unix.CloseOnExec(stubSocket)
	listener, bounded, err := setFilter()
	if err != nil {
		tellParent(toldNotSet, err)
	}
	message := []byte{toldSet}
	if bounded {
		message[0] = toldSetBounded
	}
	if err := unix.Sendmsg(stubSocket, message, unix.UnixRights(listener), nil, 0); err != nil {
		os.Exit(1) // the parent is gone, or sees that the message is missing
	}
	unix.Close(listener)
	tellParent(toldNotRun, unix.Exec(path, argv, os.Environ()))
}

// tellParent reports a failure and exits.
func tellParent(what byte, err error) {
	number := unix.EINVAL
	errors.As(err, &number)
	unix.Sendmsg(stubSocket, append([]byte{what}, strconv.Itoa(int(number))...), nil, nil, 0)
	os.Exit(1)
}

// setFilter sets the filter for the calling thread and what it executes. Without a privilege the kernel allows that
// only to threads that cannot gain privileges by executing a program.
func setFilter() (listener int, bounded bool, err error) {
	code, err := filter()
	if err != nil {
		return 0, false, err
	}
	program := unix.SockFprog{Len: uint16(len(code)), Filter: &code[0]}
	set := func(flags uintptr) unix.Errno {
		fd, _, number := unix.Syscall(unix.SYS_SECCOMP, unix.SECCOMP_SET_MODE_FILTER,
			unix.SECCOMP_FILTER_FLAG_NEW_LISTENER|flags, uintptr(unsafe.Pointer(&program)))
		listener = int(fd)
		return number
	}
	// With the flag, a signal does not interrupt and repeat a call that has been reported. Kernels before 5.19 do not
	// have it.
	const whole = unix.SECCOMP_FILTER_FLAG_WAIT_KILLABLE_RECV
	number := set(whole)
	if number == unix.EACCES {
		if err := unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0); err != nil {
			return 0, false, fmt.Errorf("set no_new_privs: %w", err)
		}
		bounded, number = true, set(whole)
	}
	if number == unix.EINVAL {
		number = set(0)
	}
	if number != 0 {
		return 0, false, number
	}
	return listener, bounded, nil
}

// Observer is a command that is to be observed.
type Observer struct {
	ours, theirs *os.File
	path         string
}

// Available returns why processes cannot be observed on this system, as far as that can be known without trying; nil:
// they can.
func Available() error {
	action := uint32(unix.SECCOMP_RET_USER_NOTIF)
	_, _, number := unix.Syscall(unix.SYS_SECCOMP, unix.SECCOMP_GET_ACTION_AVAIL, 0, uintptr(unsafe.Pointer(&action)))
	if number != 0 {
		return fmt.Errorf("%w: the kernel has no seccomp notifications (%v); they need Linux 5.5 or later, built with "+
			"CONFIG_SECCOMP_FILTER", ErrUnavailable, number)
	}
	return nil
}

// Prepare changes a command so that it will be observed. The caller starts it, and then calls Attach, or Close if it
// could not be started.
func Prepare(cmd *exec.Cmd) (*Observer, error) {
	pair, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_SEQPACKET|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, fmt.Errorf("make a socket for observation: %w", err)
	}
	o := &Observer{os.NewFile(uintptr(pair[0]), "observer"), os.NewFile(uintptr(pair[1]), "observed"), cmd.Path}
	cmd.Args = append([]string{stubName, cmd.Path}, cmd.Args...)
	cmd.Path, cmd.ExtraFiles = "/proc/self/exe", []*os.File{o.theirs}
	return o, nil
}

// Close releases what Prepare has opened.
func (o *Observer) Close() {
	o.ours.Close()
	o.theirs.Close()
}

// Attach begins to record what the started command and its descendants do, until none of them is left. It blocks until
// the command is executed, some milliseconds. An error tells why it cannot be observed (ErrUnavailable) or executed;
// the caller ends its process then.
func (o *Observer) Attach(l *Log) error {
	defer o.Close()
	o.theirs.Close()
	what, listener, err := o.receive()
	switch {
	case err != nil:
		return err
	case listener < 0:
		return errors.New("the process ended before it could be observed")
	}
	r := newReporter(listener, l)
	r.bounded = what == toldSetBounded
	go r.run()
	// The socket is closed when the command is executed.
	_, _, err = o.receive()
	if err == nil {
		err = r.forbidden()
	}
	return err
}

// receive returns the stub's next message; without one the socket was closed. Listener is -1 if the message has none.
func (o *Observer) receive() (what byte, listener int, err error) {
	message, rights := make([]byte, 16), make([]byte, unix.CmsgSpace(4))
	var n, m int
	for {
		n, m, _, _, err = unix.Recvmsg(int(o.ours.Fd()), message, rights, unix.MSG_CMSG_CLOEXEC)
		if err != unix.EINTR {
			break
		}
	}
	if err != nil {
		return 0, -1, fmt.Errorf("wait for the observed process: %w", err)
	}
	listener = -1
	if all, err := unix.ParseSocketControlMessage(rights[:m]); err == nil && len(all) == 1 {
		if fds, err := unix.ParseUnixRights(&all[0]); err == nil && len(fds) == 1 {
			listener = fds[0]
		}
	}
	if n == 0 {
		return 0, listener, nil
	}
	number, _ := strconv.Atoi(strings.TrimSpace(string(message[1:n])))
	switch message[0] {
	case toldNotSet:
		return 0, -1, cannotObserve(unix.Errno(number))
	case toldNotRun:
		return 0, -1, &os.PathError{Op: "execute", Path: o.path, Err: unix.Errno(number)}
	}
	return message[0], listener, nil
}

// cannotObserve explains why the kernel has not set the filter.
func cannotObserve(number unix.Errno) error {
	why := map[unix.Errno]string{
		unix.EBUSY: "another program already uses seccomp notifications for these processes, such as a container's " +
			"runtime",
		unix.EINVAL: "the kernel has no seccomp notifications; they need Linux 5.5 or later",
		unix.ENOSYS: "the kernel or the container forbids seccomp; a container's profile must allow seccomp(2)",
		unix.EPERM:  "the container forbids seccomp; its profile must allow seccomp(2)",
		unix.EACCES: "the container forbids seccomp; its profile must allow seccomp(2)",
	}[number]
	if why == "" {
		why = "the kernel does not accept the filter"
	}
	return fmt.Errorf("%w: %s (%v)", ErrUnavailable, why, number)
}
