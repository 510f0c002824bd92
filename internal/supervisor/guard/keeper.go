package guard

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"syscall"
	"time"
)

// keeping is a keeper's record of the terminal before.
const keeping = "OMNIVIGIL_TERMINAL"

// KeeperCommand is the command that makes the program a keeper.
const KeeperCommand = "keep-terminal"

// Keeper restores the terminal if the process that has it is killed.
type Keeper struct{ says *os.File }

// Keep starts a keeper for the terminal on standard input and output. Without a terminal it returns nil, which is a
// keeper that does nothing.
func Keep() (*Keeper, error) {
	modes, err := terminalModes(os.Stdin.Fd())
	if err != nil {
		return nil, nil // not a terminal
	}
	before, err := json.Marshal(modes)
	if err != nil {
		return nil, err
	}
	self, err := os.Executable()
	if err != nil {
		return nil, fmt.Errorf("find its own program: %w", err)
	}
	hears, says, err := os.Pipe()
	if err != nil {
		return nil, fmt.Errorf("make a pipe: %w", err)
	}
	keeper := exec.Command(self, KeeperCommand)
	keeper.Stdin, keeper.Stdout = os.Stdin, os.Stdout
	keeper.Env = append(os.Environ(), keeping+"="+string(before))
	keeper.ExtraFiles = []*os.File{hears}
	keeper.SysProcAttr = ownSession() // so that the terminal's signals do not reach it
	if err := keeper.Start(); err != nil {
		return nil, fmt.Errorf("start a keeper of the terminal: %w", err)
	}
	hears.Close()
	go keeper.Wait()
	return &Keeper{says}, nil
}

// Taken sets whether the terminal is in use now.
func (k *Keeper) Taken(taken bool) {
	if k != nil {
		fmt.Fprintln(k.says, taken)
	}
}

// Restore restores the terminal if the process that had it is gone and has not done so. The keeper calls it; it
// blocks until that process is gone.
func Restore() {
	signal.Ignore(os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	taken := false
	for lines := bufio.NewScanner(os.NewFile(3, "terminal")); lines.Scan(); {
		taken = lines.Text() == "true"
	}
	var before modes
	if err := json.Unmarshal([]byte(os.Getenv(keeping)), &before); err != nil || !taken {
		return
	}
	restored := make(chan struct{})
	go func() {
		defer close(restored)
		setTerminalModes(os.Stdin.Fd(), before)
		io.WriteString(os.Stdout, leaveScreen)
		setTerminalModes(os.Stdin.Fd(), before)
	}()
	const patience = 2 * time.Second
	select {
	case <-restored:
	case <-time.After(patience): // the terminal no longer reads
	}
}

// leaveScreen ends everything that a full screen may have set: the alternate screen, the hidden cursor, mouse and
// paste reports, key reports, synchronized output.
const leaveScreen = "\x1b[?2026l\x1b[?1049l\x1b[?25h\x1b[?1000l\x1b[?1002l\x1b[?1003l\x1b[?1006l" +
	"\x1b[?1004l\x1b[?2004l\x1b[<u\x1b[>4m\x1b[0m\r"
