package demo

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
)

const folderPrefix = "omnivigil-demo-"

// MakeFolder creates a directory for one demo in dir, with a name by which RemoveAbandoned can tell when it is no
// longer used.
func MakeFolder(dir string) (string, error) {
	return os.MkdirTemp(dir, fmt.Sprintf("%s%d-", folderPrefix, os.Getpid()))
}

// RemoveAbandoned removes the directories of demos that were killed with all their processes: neither the process
// that created them nor, as inUse tells for a directory, a project uses them.
func RemoveAbandoned(dir string, inUse func(project string) bool) {
	folders, _ := filepath.Glob(filepath.Join(dir, folderPrefix+"*-*"))
	for _, f := range folders {
		number, _, _ := strings.Cut(strings.TrimPrefix(filepath.Base(f), folderPrefix), "-")
		pid, err := strconv.Atoi(number)
		if err == nil && !isAlive(pid) && !inUse(filepath.Join(f, FolderName)) {
			os.RemoveAll(f)
		}
	}
}

// isAlive reports whether a process with a number exists, as far as can be told.
func isAlive(pid int) bool {
	p, err := os.FindProcess(pid)
	if err != nil {
		return false
	}
	err = p.Signal(syscall.Signal(0))
	return err == nil || err == syscall.EPERM
}
