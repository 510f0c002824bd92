package process

import (
	"fmt"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"
)

// readsTerminal reports whether one of the run's processes is blocked reading its terminal; true if the system does
// not tell.
func (p *Process) readsTerminal() bool {
	terminal := p.terminalName()
	for _, m := range withDescendants([]int{p.ID()}) {
		threads, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/syscall", m.pid))
		for _, thread := range threads {
			call, err := readProc(thread)
			if os.IsPermission(err) {
				return true
			}
			var number, file int
			if n, _ := fmt.Sscanf(string(call), "%d 0x%x", &number, &file); n < 2 || number != unix.SYS_READ {
				continue
			}
			target, _ := os.Readlink(fmt.Sprintf("/proc/%d/fd/%d", m.pid, file))
			if target == terminal || target == "/dev/tty" {
				return true
			}
		}
	}
	return false
}

// terminalName is the path of the process's side of the terminal.
func (p *Process) terminalName() string {
	name := ""
	if conn, err := p.tty.SyscallConn(); err == nil {
		conn.Control(func(fd uintptr) {
			if n, err := unix.IoctlGetInt(int(fd), unix.TIOCGPTN); err == nil {
				name = fmt.Sprintf("/dev/pts/%d", n)
			}
		})
	}
	return name
}
