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

// MakeFolder makes a folder for one demo in dir, named so that RemoveAbandoned can tell
// when it is no longer used.
func MakeFolder(dir string) (string, error) {
	return os.MkdirTemp(dir, fmt.Sprintf("%s%d-", folderPrefix, os.Getpid()))
}

// RemoveAbandoned removes the folders of demos that were killed with all their processes:
// they are no longer used, neither by who made them nor, as inUse finds out, of a project's
// folder, a project.
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

// isAlive reports whether there is a process of that number, as far as can be reported.
func isAlive(pid int) bool {
	p, err := os.FindProcess(pid)
	if err != nil {
		return false
	}
	err = p.Signal(syscall.Signal(0))
	return err == nil || err == syscall.EPERM
}
