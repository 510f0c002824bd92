//go:build unix

package process

import (
	"fmt"
	"io"
	"os"
	"os/exec"
	"sync"
	"syscall"
	"time"

	"github.com/charmbracelet/x/termios"
	"github.com/creack/pty"
	"golang.org/x/sys/unix"
)

// terminal is a terminal that no process has yet. Its sides are ours, from which output is read, and theirs.
type terminal struct{ ours, theirs *os.File }

func openTerminal() (terminal, error) {
	master, theirs, err := pty.Open()
	if err != nil {
		return terminal{}, fmt.Errorf("open a terminal: %w", err)
	}
	defer master.Close()
	// The duplicate is added to the runtime's poller, so that reads can have a deadline; the original cannot.
	fd, err := unix.FcntlInt(master.Fd(), unix.F_DUPFD_CLOEXEC, 0)
	if err != nil {
		theirs.Close()
		return terminal{}, fmt.Errorf("duplicate the terminal: %w", err)
	}
	if err := unix.SetNonblock(fd, true); err != nil {
		unix.Close(fd)
		theirs.Close()
		return terminal{}, fmt.Errorf("prepare the terminal: %w", err)
	}
	return terminal{os.NewFile(uintptr(fd), master.Name()), theirs}, nil
}

// terminals keeps one open in advance, because a save waits for the start.
type terminals chan terminal

func newTerminals() terminals { return make(terminals, 1) }

func (ts terminals) take() (terminal, error) {
	time.AfterFunc(spareDelay, ts.refill)
	select {
	case t := <-ts:
		return t, nil
	default:
		return openTerminal()
	}
}

func (ts terminals) refill() {
	if len(ts) > 0 {
		return
	}
	t, err := openTerminal()
	if err != nil {
		return // the next start will get the error
	}
	select {
	case ts <- t:
	default:
		t.ours.Close()
		t.theirs.Close()
	}
}

// start starts cmd as the leader of a new session, and so of a new process group, on a new terminal as specified, and
// returns our side of the terminal. Start is what finally starts it.
func (ts terminals) start(cmd *exec.Cmd, spec Spec, start func() error) (*os.File, error) {
	t, err := ts.take()
	if err != nil {
		return nil, err
	}
	defer t.theirs.Close()
	cmd.Stdin, cmd.Stdout, cmd.Stderr = t.theirs, t.theirs, t.theirs
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: spec.Terminal == OwnTerminal}
	if err = resize(t.ours, spec.Cols, spec.Rows); err == nil {
		err = start()
	}
	if err != nil {
		t.ours.Close()
		return nil, err
	}
	return t.ours, nil
}

// startOnPipe starts cmd as the leader of a new session without a terminal, and returns the reading side of a pipe
// for its output.
func startOnPipe(cmd *exec.Cmd) (*os.File, error) {
	ours, theirs, err := os.Pipe()
	if err != nil {
		return nil, fmt.Errorf("make a pipe: %w", err)
	}
	defer theirs.Close()
	cmd.Stdout, cmd.Stderr = theirs, theirs
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if err := cmd.Start(); err != nil {
		ours.Close()
		return nil, err
	}
	return ours, nil
}

// reading reads a terminal, and knows whether everything has been read and handled. The lock makes reading bytes from
// the system and knowing of them one step.
type reading struct {
	mu   sync.Mutex
	busy bool // the reader has bytes that it has not handled
}

// read is File.Read. The reader calls it when it has handled what it read before.
func (r *reading) read(tty *os.File, buf []byte) (n int, err error) {
	conn, err := tty.SyscallConn()
	if err != nil {
		return 0, err
	}
	waited := conn.Read(func(fd uintptr) bool {
		r.mu.Lock()
		defer r.mu.Unlock()
		for {
			n, err = unix.Read(int(fd), buf)
			r.busy = n > 0
			if err != unix.EINTR {
				return err != unix.EAGAIN
			}
		}
	})
	if waited != nil { // its deadline has passed
		return 0, waited
	}
	if n == 0 && err == nil {
		err = io.EOF
	}
	return max(n, 0), err
}

// more reads what has come in the meantime, without waiting. The reader calls it before it handles what it has read.
func (r *reading) more(tty *os.File, buf []byte) (n int) {
	conn, err := tty.SyscallConn()
	if err != nil {
		return 0
	}
	conn.Control(func(fd uintptr) {
		for n < len(buf) {
			some, err := unix.Read(int(fd), buf[n:])
			if err == unix.EINTR {
				continue
			}
			if some <= 0 {
				return // nothing, or an error that the next read returns, too
			}
			n += some
		}
	})
	return n
}

// isDone reports whether nothing is left to read and to handle.
func (r *reading) isDone(tty *os.File) bool {
	conn, err := tty.SyscallConn()
	if err != nil {
		return true
	}
	done := true
	conn.Control(func(fd uintptr) {
		r.mu.Lock()
		defer r.mu.Unlock()
		wait := []unix.PollFd{{Fd: int32(fd), Events: unix.POLLIN}}
		n, err := unix.Poll(wait, 0)
		done = !r.busy && err == nil && (n == 0 || wait[0].Revents&unix.POLLIN == 0)
	})
	return done
}

// writeNow writes what the terminal accepts at once.
func writeNow(tty *os.File, text []byte) {
	if conn, err := tty.SyscallConn(); err == nil {
		conn.Control(func(fd uintptr) { unix.Write(int(fd), text) })
	}
}

// terminalModes returns whether a terminal echoes what is typed, and whether it passes it on line by line (see
// termios(3), ECHO and ICANON).
func terminalModes(tty *os.File) (echoes, byLine bool) {
	echoes, byLine = true, true
	if conn, err := tty.SyscallConn(); err == nil {
		conn.Control(func(fd uintptr) {
			if t, err := termios.GetTermios(int(fd)); err == nil {
				echoes, byLine = t.Lflag&unix.ECHO != 0, t.Lflag&unix.ICANON != 0
			}
		})
	}
	return echoes, byLine
}

func resize(tty *os.File, cols, rows int) error {
	conn, err := tty.SyscallConn()
	if err != nil {
		return err
	}
	var set error
	err = conn.Control(func(fd uintptr) {
		set = unix.IoctlSetWinsize(int(fd), unix.TIOCSWINSZ, &unix.Winsize{Row: uint16(rows), Col: uint16(cols)})
	})
	if err == nil {
		err = set
	}
	return err
}
