//go:build amd64 || arm64

package standby

import (
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"

	"golang.org/x/sys/unix"
)

// Process is a process that waits, or has executed a program. Its methods may be called from one goroutine at a time.
type Process struct {
	Cmd  *exec.Cmd // its own, for signals to it and for its end
	ours *os.File
}

// Start starts a process that waits. Of the command it uses the directory, the standard files and the attributes; Name
// is how the process is listed while it waits. It blocks until the process waits, about a millisecond.
func Start(cmd *exec.Cmd, name string) (*Process, error) {
	program, err := runner()
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrUnavailable, err)
	}
	pair, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, fmt.Errorf("make a socket for a process: %w", err)
	}
	ours, theirs := os.NewFile(uintptr(pair[0]), "standby"), os.NewFile(uintptr(pair[1]), "standby")
	defer theirs.Close()
	cmd.Path, cmd.Args, cmd.Env = program, []string{name}, []string{}
	cmd.ExtraFiles = []*os.File{theirs} // FD in runner_*.s
	if err := cmd.Start(); err != nil {
		ours.Close()
		return nil, fmt.Errorf("start a process in advance: %w", err)
	}
	return &Process{cmd, ours}, nil
}

// Tell tells the process to execute a program, with its arguments and its environment ("NAME=value"); what its
// environment was before does not matter. It blocks only while the process reads what is too large for a socket's
// buffer. ErrGone: the process is not there; other errors: the arguments do not fit. After an error nothing is
// executed, and the caller closes the process.
func (p *Process) Tell(path string, argv, env []string) error {
	text, err := message(path, argv, env)
	if err != nil {
		return err
	}
	for len(text) > 0 {
		n, err := unix.SendmsgN(int(p.ours.Fd()), text, nil, nil, unix.MSG_NOSIGNAL)
		if err == unix.EINTR {
			continue
		}
		if err != nil {
			return fmt.Errorf("%w: %w", ErrGone, err)
		}
		text = text[n:]
	}
	return nil
}

// Executed blocks until the process has executed the program that it was told to, which takes a fraction of a
// millisecond, or could not. ErrGone: it was killed before it was told. It is called once, after Tell.
func (p *Process) Executed() error {
	defer p.ours.Close()
	var answer [8]byte
	for {
		n, err := unix.Read(int(p.ours.Fd()), answer[:])
		switch {
		case err == unix.EINTR:
		case err != nil: // it has not read everything
			return fmt.Errorf("%w: %w", ErrGone, err)
		case n == 0: // the program has been executed, which closes the socket, or the process was killed while it was
			return nil
		default:
			number := -int64(binary.NativeEndian.Uint64(answer[:]))
			return &os.PathError{Op: "fork/exec", Path: p.Cmd.Path, Err: unix.Errno(number)}
		}
	}
}

// Close ends a process that waits.
func (p *Process) Close() {
	p.ours.Close()
	p.Cmd.Process.Kill()
	p.Cmd.Wait()
}

// What a waiting process reads begins with four addresses in its memory: the end of what it reads, the path of the
// program, and the lists of its arguments and variables, each of addresses and ended by 0. The texts follow.
const heads = 4 * 8

var errTooLarge = errors.New("its arguments and variables are too large")

// message returns what a process reads.
func message(path string, argv, env []string) ([]byte, error) {
	size := heads + 8*(len(argv)+1+len(env)+1) + len(path) + 1
	for _, list := range [][]string{argv, env} {
		for _, s := range list {
			size += len(s) + 1
			if strings.IndexByte(s, 0) >= 0 {
				return nil, unix.EINVAL
			}
		}
	}
	if size > memorySize {
		return nil, errTooLarge
	}
	m := make([]byte, 0, size)
	text := uint64(memory + heads + 8*(len(argv)+1+len(env)+1)) // where the next text will be
	add := func(s string) {
		m = binary.NativeEndian.AppendUint64(m, text)
		text += uint64(len(s)) + 1
	}
	m = binary.NativeEndian.AppendUint64(m, uint64(memory+size))
	add(path)
	m = binary.NativeEndian.AppendUint64(m, memory+heads)
	m = binary.NativeEndian.AppendUint64(m, uint64(memory+heads+8*(len(argv)+1)))
	for _, list := range [][]string{argv, env} {
		for _, s := range list {
			add(s)
		}
		m = binary.NativeEndian.AppendUint64(m, 0)
	}
	m = append(append(m, path...), 0)
	for _, list := range [][]string{argv, env} {
		for _, s := range list {
			m = append(append(m, s...), 0)
		}
	}
	return m, nil
}
