package watch

import (
	"bytes"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"omnivigil/internal/files"

	"github.com/adrg/xdg"
)

// repository is the part of a version control repository that watching needs, as
// gitrepository-layout(5) describes it.
type repository struct {
	top       string   // its work tree
	own       string   // where this work tree's own files are: HEAD, the index and its lock
	below     *scope   // the rules that count in it beside those of its folders
	files     []string // where those are
	listeners []*listener
}

// openRepository returns the repository whose work tree is the folder, or nil.
func openRepository(top string) *repository {
	own := path.Join(top, ".git")
	info, err := os.Stat(filepath.FromSlash(own))
	if err != nil {
		return nil
	}
	if !info.IsDir() { // a work tree beside the main one, or a submodule
		text, _ := files.Read(filepath.FromSlash(own), files.Sane)
		to, ok := strings.CutPrefix(string(bytes.TrimSpace(text)), "gitdir: ")
		if !ok {
			return nil
		}
		own = absolute(top, to)
	}
	common := own
	if text, err := files.Read(filepath.FromSlash(path.Join(own, "commondir")), files.Sane); err == nil {
		common = absolute(own, string(bytes.TrimSpace(text)))
	}
	r := &repository{top: top, own: own}
	for _, file := range []string{excludesFile(), path.Join(common, "info/exclude")} {
		if file != "" {
			r.files = append(r.files, file)
			r.below = r.below.with(top, file)
		}
	}
	return r
}

// excludesFile returns the file of rules that the person has for all repositories.
// Where it is, git itself knows best.
var excludesFile = sync.OnceValue(func() string {
	if out, err := exec.Command("git", "config", "--type=path", "--get", "core.excludesFile").Output(); err == nil {
		if file := strings.TrimSpace(string(out)); file != "" {
			return filepath.ToSlash(file)
		}
	}
	return filepath.ToSlash(filepath.Join(xdg.ConfigHome, "git", "ignore"))
})

// lock returns the file that stands in the repository while a command changes many
// files, if it is there now.
func (r *repository) lock() (string, bool) {
	file := path.Join(r.own, lockName)
	_, err := os.Lstat(filepath.FromSlash(file))
	return file, err == nil
}

const lockName = "index.lock"

// sequences stand in a repository while a command goes from commit to commit, and
// holds its lock for each of them again.
var sequences = []string{"rebase-merge", "rebase-apply", "sequencer"}

func (r *repository) inSequence() bool {
	for _, name := range sequences {
		if _, err := os.Lstat(filepath.FromSlash(path.Join(r.own, name))); err == nil {
			return true
		}
	}
	return false
}

// After version control has let go of its lock, a command that takes it again and
// again gets this long to do so.
const (
	lockPause     = 100 * time.Millisecond
	sequencePause = 300 * time.Millisecond // in the middle of a rebase and the like
)

// enterRepository notes whether a folder is the top of a repository.
func (t *tree) enterRepository(f *folder, is bool) {
	if is == (f.repo != nil) {
		return
	}
	if !is {
		t.leaveRepository(f)
		return
	}
	r := openRepository(f.path)
	if r == nil {
		return
	}
	f.repo, t.repos[f] = r, r
	listen := func(file string, do func(signs)) {
		if w := t.listen(file, do); w != nil {
			r.listeners = append(r.listeners, w)
		}
	}
	for _, file := range r.files {
		listen(file, func(signs) {
			t.leaveRepository(f) // it is read again when the tree is reckoned
			t.stale = true
		})
	}
	listen(path.Join(r.own, lockName), func(signs) {
		if _, locked := r.lock(); !locked {
			t.released = t.clock()
		}
	})
}

func (t *tree) leaveRepository(f *folder) {
	if f.repo != nil {
		t.cut(f.repo.listeners)
		delete(t.repos, f)
		f.repo = nil
	}
}

// held returns the lock by which version control asks to be left alone at the
// moment, if it does.
func (t *tree) held(now time.Time) (lock string, held bool) {
	pause := lockPause
	for _, r := range t.repos {
		file, locked := r.lock()
		if locked {
			return file, true
		}
		if r.inSequence() {
			pause = sequencePause
		}
		lock = file
	}
	return lock, now.Sub(t.released) < pause
}

// repositoryTop returns the nearest folder at or above dir that is the top of a
// repository, or "".
func repositoryTop(dir string) string {
	for ; ; dir = path.Dir(dir) {
		if _, err := os.Lstat(filepath.FromSlash(path.Join(dir, ".git"))); err == nil {
			return dir
		}
		if dir == path.Dir(dir) {
			return ""
		}
	}
}
