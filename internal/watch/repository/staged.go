package repository

import (
	"errors"
	"fmt"
	"os/exec"
	"strings"
)

// Staged returns the files below a directory that are staged for the next commit, relative to it, and those of them
// whose contents in the directory differ from what is staged. Removed files count. It asks git, and takes no lock.
func Staged(dir string) (staged, differing []string, err error) {
	if staged, err = names(dir, "diff", "--cached", "--name-only", "-z", "--relative"); err != nil || len(staged) == 0 {
		return nil, nil, err
	}
	differing, err = names(dir, append([]string{"diff", "--name-only", "-z", "--relative", "--"}, staged...)...)
	return staged, differing, err
}

// names runs a git command that prints names, each followed by a zero byte.
func names(dir string, words ...string) ([]string, error) {
	cmd := exec.Command("git", append([]string{"--no-optional-locks", "-C", dir}, words...)...)
	out, err := cmd.Output()
	var failed *exec.ExitError
	if errors.As(err, &failed) {
		return nil, fmt.Errorf("ask git what is staged in %s: %s", dir, strings.TrimSpace(string(failed.Stderr)))
	}
	if err != nil {
		return nil, fmt.Errorf("ask git what is staged in %s: %w", dir, err)
	}
	return strings.FieldsFunc(string(out), func(r rune) bool { return r == 0 }), nil
}
