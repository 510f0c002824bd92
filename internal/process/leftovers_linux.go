package process

import (
	"bytes"
	"fmt"
	"os"
	"strconv"
	"syscall"
	"time"
)

// Variables that identify the processes of an earlier session.
const (
	projectMark = "OMNIVIGIL_PROJECT"
	sessionMark = "OMNIVIGIL_SESSION"
)

// Marks returns the variables for all processes of a project's session.
func Marks(project string) []string {
	return []string{projectMark + "=" + project, fmt.Sprintf("%s=%d", sessionMark, os.Getpid())}
}

// Leftover is a process of an earlier session.
type Leftover struct {
	PID     int
	Unit    string
	Command string
}

// Leftovers returns the processes that earlier sessions of a project have left: those whose supervisor no longer
// exists. Only processes with a readable environment are found, which are the user's own.
func Leftovers(project string) []Leftover {
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return nil
	}
	var left []Leftover
	for _, entry := range entries {
		pid, err := strconv.Atoi(entry.Name())
		if err != nil || mark(pid, projectMark) != project {
			continue
		}
		if session, err := strconv.Atoi(mark(pid, sessionMark)); err == nil {
			if m, ok := readMember(session); ok && !m.gone() {
				continue
			}
		}
		if m, ok := readMember(pid); !ok || m.gone() {
			continue
		}
		words, _ := os.ReadFile("/proc/" + entry.Name() + "/cmdline")
		command := string(bytes.TrimSpace(bytes.ReplaceAll(words, []byte{0}, []byte{' '})))
		left = append(left, Leftover{pid, mark(pid, "OMNIVIGIL_UNIT"), command})
	}
	return left
}

// EndLeftovers sends SIGTERM, after the grace period SIGKILL, and returns when none is left.
func EndLeftovers(project string, grace time.Duration) {
	sig, deadline := syscall.SIGTERM, time.Now().Add(grace)
	for {
		left := Leftovers(project)
		if len(left) == 0 {
			return
		}
		for _, l := range left {
			syscall.Kill(l.PID, sig)
		}
		if time.Now().After(deadline) {
			sig = syscall.SIGKILL
		}
		time.Sleep(20 * time.Millisecond)
	}
}
