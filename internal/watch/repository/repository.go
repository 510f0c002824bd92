// Package repository is what watching needs to know of a git repository: the rules of its ignore files
// (gitignore(5)), its lock, and whether a command goes from commit to commit. It reads files and changes none. Start
// reading at Open and Scope.
package repository

import (
	"bytes"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"strings"
	"sync"

	"github.com/adrg/xdg"

	"omnivigil/internal/files"
)

// Repository is the part of a version control repository that watching needs, as described in
// gitrepository-layout(5).
type Repository struct {
	top    string   // its work tree
	common string   // the directory of what all work trees share: the references
	Own    string   // the directory of this work tree's own files: HEAD, the index and its lock
	Below  *Scope   // the rules that apply in addition to those of its directories
	Files  []string // the files with these rules
}

// Open returns the repository whose work tree is the directory, or nil.
func Open(top string) *Repository {
	own := path.Join(top, ".git")
	info, err := os.Stat(filepath.FromSlash(own))
	if err != nil {
		return nil
	}
	if !info.IsDir() { // an additional work tree, or a submodule
		text, _ := files.Read(filepath.FromSlash(own), files.Sane)
		to, ok := strings.CutPrefix(string(bytes.TrimSpace(text)), "gitdir: ")
		if !ok {
			return nil
		}
		own = files.Absolute(top, to)
	}
	common := own
	if text, err := files.Read(filepath.FromSlash(path.Join(own, "commondir")), files.Sane); err == nil {
		common = files.Absolute(own, string(bytes.TrimSpace(text)))
	}
	r := &Repository{top: top, Own: own, common: common}
	for _, file := range []string{excludesFile(), path.Join(common, "info/exclude")} {
		if file != "" {
			r.Files = append(r.Files, file)
			r.Below = r.Below.With(top, file)
		}
	}
	return r
}

// excludesFile returns the user's file of rules for all repositories. git itself knows best where that is.
var excludesFile = sync.OnceValue(func() string {
	if out, err := exec.Command("git", "config", "--type=path", "--get", "core.excludesFile").Output(); err == nil {
		if file := strings.TrimSpace(string(out)); file != "" {
			return filepath.ToSlash(file)
		}
	}
	return filepath.ToSlash(filepath.Join(xdg.ConfigHome, "git", "ignore"))
})

// Lock returns the file that exists in the repository while a command changes many files, if it exists now.
func (r *Repository) Lock() (string, bool) {
	file := path.Join(r.Own, LockName)
	_, err := os.Lstat(filepath.FromSlash(file))
	return file, err == nil
}

const LockName = "index.lock"

// sequences exist in a repository while a command goes from commit to commit and takes its lock for each of them.
var sequences = []string{"rebase-merge", "rebase-apply", "sequencer"}

func (r *Repository) InSequence() bool {
	for _, name := range sequences {
		if _, err := os.Lstat(filepath.FromSlash(path.Join(r.Own, name))); err == nil {
			return true
		}
	}
	return false
}

// Top returns the nearest directory at or above dir that is the top of a repository, or "".
func Top(dir string) string {
	for ; ; dir = path.Dir(dir) {
		if _, err := os.Lstat(filepath.FromSlash(path.Join(dir, ".git"))); err == nil {
			return dir
		}
		if dir == path.Dir(dir) {
			return ""
		}
	}
}

// Rules are the ignore rules of all directories, read at their first use. The zero value is ready for use, by one
// goroutine.
type Rules struct{ of map[string]directory }

// directory is what version control's rules say of a directory: the rule that excludes it, or the rules for what is
// directly in it.
type directory struct {
	excluded string
	scope    *Scope
}

// ExcludedBy returns the rule by which version control ignores a file, with its location, or "". The file need not
// exist. The path is absolute.
func (r *Rules) ExcludedBy(file string) string {
	file = path.Clean(file)
	return r.excludes(r.in(path.Dir(file)), file, isDirectory(file))
}

func (r *Rules) excludes(in directory, file string, dir bool) string {
	switch {
	case in.excluded != "":
		return in.excluded
	case path.Base(file) == ".git":
		return "version control's own directory"
	}
	if rule := in.scope.decides(file, dir); rule != nil && !rule.negated {
		return rule.String()
	}
	return ""
}

// in returns what the rules say of a directory.
func (r *Rules) in(dir string) directory {
	if d, known := r.of[dir]; known {
		return d
	}
	d := directory{}
	if up := path.Dir(dir); up != dir {
		above := r.in(up)
		d = directory{r.excludes(above, dir, true), above.scope}
	}
	if d.excluded == "" {
		if repository := Open(dir); repository != nil {
			d.scope = repository.Below
		}
		d.scope = d.scope.With(dir, path.Join(dir, IgnoreFile))
	}
	if r.of == nil {
		r.of = map[string]directory{}
	}
	r.of[dir] = d
	return d
}

func isDirectory(p string) bool {
	info, err := os.Stat(filepath.FromSlash(p))
	return err == nil && info.IsDir()
}
