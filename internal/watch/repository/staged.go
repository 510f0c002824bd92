package repository

import (
	"errors"
	"fmt"
	"os/exec"
	"slices"
	"strings"
)

// Staged returns the files below a directory that are staged for the next commit, relative to it, and those of them
// whose contents in the directory differ from what is staged. Removed files count. It asks git, and takes no lock.
func Staged(dir string) (staged, differing []string, err error) {
	if staged, err = changed(dir, "--cached"); err != nil || len(staged) == 0 {
		return nil, nil, err
	}
	differing, err = changed(dir)
	return staged, slices.DeleteFunc(differing, func(name string) bool { return !slices.Contains(staged, name) }), err
}

// changed returns the files that git sees as changed. Of a renamed file it returns both names: its old one is gone.
func changed(dir string, flags ...string) ([]string, error) {
	words := []string{"--no-optional-locks", "-C", dir, "diff", "--name-only", "--no-renames", "--relative", "-z"}
	cmd := exec.Command("git", append(words, flags...)...)
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
