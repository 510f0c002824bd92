package repository

import (
	"bufio"
	"bytes"
	"context"
	"os/exec"
	"path"
	"path/filepath"
	"strings"

	"omnivigil/internal/files"
)

// Head returns the commit that is checked out, and its branch; empty: none. It reads files, as gitrepository-layout(5)
// describes them, and starts no program. A repository whose references are not in files has no commit here.
func (r *Repository) Head() (commit, branch string) {
	head := r.text(r.Own, "HEAD")
	ref, symbolic := strings.CutPrefix(head, "ref: ")
	if !symbolic {
		return head, ""
	}
	branch, _ = strings.CutPrefix(ref, "refs/heads/")
	if commit = r.text(r.common, ref); commit == "" {
		commit = packed(r.text(r.common, "packed-refs"), ref)
	}
	return commit, branch
}

// text returns the contents of a small file, without white space around it; empty: it cannot be read.
func (r *Repository) text(dir, name string) string {
	text, err := files.Read(filepath.FromSlash(path.Join(dir, name)), files.Sane)
	if err != nil {
		return ""
	}
	return string(bytes.TrimSpace(text))
}

// packed returns the commit of a reference in the file of all of them; empty: it is not among them.
func packed(text, ref string) string {
	for lines := bufio.NewScanner(strings.NewReader(text)); lines.Scan(); {
		if commit, name, _ := strings.Cut(lines.Text(), " "); name == ref {
			return commit
		}
	}
	return ""
}

// Clean reports whether the files of the work tree are as committed; false, false: git could not tell before the
// context was done. It asks git, and takes no lock. Files that are not under version control do not count.
func (r *Repository) Clean(ctx context.Context) (clean, known bool) {
	out, err := exec.CommandContext(ctx, "git", "--no-optional-locks", "-C", filepath.FromSlash(r.top), "status",
		"--porcelain", "--untracked-files=no", "--ignore-submodules=dirty").Output()
	return len(out) == 0, err == nil
}
