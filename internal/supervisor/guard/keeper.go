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

// keeping has, for a keeper, what the terminal was before.
const keeping = "OMNIVIGIL_TERMINAL"

// KeeperCommand is the word by which the program is a keeper.
const KeeperCommand = "keep-terminal"

// Keeper stands by to put the terminal back, should the process that has it be killed.
type Keeper struct{ says *os.File }

// Keep starts a keeper for the terminal on standard input and output. Where there is none
// it returns nil, which is a keeper that does nothing.
func Keep() (*Keeper, error) {
	modes, err := terminalModes(os.Stdin.Fd())
	if err != nil {
		return nil, nil // it is no terminal
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
	keeper.SysProcAttr = ownSession() // which the terminal's signals do not reach
	if err := keeper.Start(); err != nil {
		return nil, fmt.Errorf("start a keeper of the terminal: %w", err)
	}
	hears.Close()
	go keeper.Wait()
	return &Keeper{says}, nil
}

// Taken says whether the terminal is in use now.
func (k *Keeper) Taken(taken bool) {
	if k != nil {
		fmt.Fprintln(k.says, taken)
	}
}

// Restore puts the terminal back if the process that had it has gone without doing so. It
// is called by the keeper, and blocks until that process has gone.
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
	case <-time.After(patience): // the terminal does not read any more
	}
}

// leaveScreen ends what a full screen may have begun: the other screen, the
// hidden cursor, mouse and paste reports, key reports, synchronized output.
const leaveScreen = "\x1b[?2026l\x1b[?1049l\x1b[?25h\x1b[?1000l\x1b[?1002l\x1b[?1003l\x1b[?1006l" +
	"\x1b[?1004l\x1b[?2004l\x1b[<u\x1b[>4m\x1b[0m\r"
