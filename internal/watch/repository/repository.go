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
	top   string   // its work tree
	Own   string   // the directory of this work tree's own files: HEAD, the index and its lock
	Below *Scope   // the rules that apply in addition to those of its directories
	Files []string // the files with these rules
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
	r := &Repository{top: top, Own: own}
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

// ExcludedBy returns the rule by which version control ignores a file, with its location, or "". The file need not
// exist.
func ExcludedBy(file string) string {
	var rules *Scope
	dir := "/"
	parts := strings.Split(strings.Trim(path.Clean(file), "/"), "/")
	for i, name := range parts {
		if r := Open(dir); r != nil {
			rules = r.Below
		}
		rules = rules.With(dir, path.Join(dir, IgnoreFile))
		dir = path.Join(dir, name)
		if name == ".git" {
			return "version control's own directory"
		}
		last := i == len(parts)-1
		if r := rules.decides(dir, !last || isDirectory(dir)); r != nil && !r.negated {
			return r.String()
		}
	}
	return ""
}

func isDirectory(p string) bool {
	info, err := os.Stat(filepath.FromSlash(p))
	return err == nil && info.IsDir()
}
