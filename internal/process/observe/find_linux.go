//go:build amd64 || arm64

package observe

import (
	"os"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

// finder finds what paths of processes refer to. It is used by one goroutine.
type finder struct {
	root string
	// What is known of paths, for a moment: others may change links.
	asOf    time.Time
	dirs    map[string]string // by path as given: absolute, with the links in it resolved
	outside map[string]bool   // paths that are not below root, wherever they lead
}

const (
	maxKnown = 50_000
	knownFor = time.Second
	maxLinks = 40 // as the kernel (path_resolution(7))
)

func newFinder(root string) *finder {
	return &finder{root: root, dirs: map[string]string{}, outside: map[string]bool{}}
}

// found is what a path refers to.
type found struct {
	name   string // relative to the root
	path   string // absolute
	mode   uint32 // of its inode; 0: it does not exist
	orphan bool   // it does not exist, and its directory does not, either
}

func (f found) exists() bool { return f.mode != 0 }
func (f found) isDir() bool  { return f.mode&unix.S_IFMT == unix.S_IFDIR }
func (f found) isFile() bool { return f.mode&unix.S_IFMT == unix.S_IFREG }
func (f found) isLink() bool { return f.mode&unix.S_IFMT == unix.S_IFLNK }

// forget forgets what is known of paths, when a link may have changed.
func (f *finder) forget() {
	clear(f.dirs)
	clear(f.outside)
}

func (f *finder) refresh() {
	if now := time.Now(); now.Sub(f.asOf) > knownFor || len(f.dirs)+len(f.outside) > maxKnown {
		f.forget()
		f.asOf = now
	}
}

// find returns what a path of a thread refers to, if that is below the root. Dir is the open directory that it is
// relative to, or unix.AT_FDCWD. Follow follows a link at its end.
func (f *finder) find(thread int, dir int32, path []byte, follow bool) (found, bool) {
	if len(path) == 0 {
		return found{}, false // the call fails
	}
	f.refresh()
	var whole string
	if path[0] == '/' {
		if f.outside[string(path)] {
			return found{}, false
		}
		whole = string(path)
	} else {
		base, ok := openDir(thread, dir)
		if !ok {
			return found{}, false
		}
		whole = base + "/" + string(path)
	}
	resolved, direct := f.resolve(whole, follow)
	name, below := f.below(resolved)
	if !below {
		if path[0] == '/' {
			f.outside[whole] = true
		}
		return found{}, false
	}
	at := found{name: name, path: resolved}
	var st unix.Stat_t
	if err := unix.Lstat(resolved, &st); err == nil {
		at.mode = st.Mode
	} else {
		at.orphan = unix.Lstat(direct, &st) != nil
	}
	return at, true
}

// openDir returns the path of a thread's open directory or working directory.
func openDir(thread int, dir int32) (string, bool) {
	link := "/proc/" + strconv.Itoa(thread) + "/cwd"
	if dir != unix.AT_FDCWD {
		link = "/proc/" + strconv.Itoa(thread) + "/fd/" + strconv.Itoa(int(dir))
	}
	path, err := os.Readlink(link)
	return path, err == nil && strings.HasPrefix(path, "/")
}

// below returns a path relative to the root.
func (f *finder) below(path string) (string, bool) {
	rest, is := strings.CutPrefix(path, f.root)
	switch {
	case !is:
		return "", false
	case rest == "":
		return ".", true
	case rest[0] != '/':
		return "", false
	}
	return rest[1:], true
}

// resolve resolves the links in a path, and in its last element if follow is set, and returns the directory that the
// result is in.
func (f *finder) resolve(path string, follow bool) (resolved, dir string) {
	slashed := strings.HasSuffix(path, "/")
	path = strings.TrimRight(path, "/")
	at := strings.LastIndexByte(path, '/')
	if at < 0 {
		return "/", "/"
	}
	last := path[at+1:]
	if last == "." || last == ".." {
		resolved = f.dir(path, 0)
		return resolved, resolved
	}
	dir = f.dir(path[:at], 0)
	resolved = join(dir, last)
	if follow || slashed {
		if to, err := os.Readlink(resolved); err == nil {
			resolved = f.dir(absolute(dir, to), 1)
		}
	}
	return resolved, dir
}

func join(dir, name string) string {
	if dir == "/" {
		return "/" + name
	}
	return dir + "/" + name
}

func absolute(dir, path string) string {
	if strings.HasPrefix(path, "/") {
		return path
	}
	return join(dir, path)
}

// dir resolves all links in an absolute path. What does not exist stays as it is.
func (f *finder) dir(path string, links int) string {
	if path == "" || path == "/" || links > maxLinks {
		return "/"
	}
	if resolved, known := f.dirs[path]; known {
		return resolved
	}
	at := strings.LastIndexByte(path, '/')
	parent, last := f.dir(path[:at], links), path[at+1:]
	resolved := parent
	switch last {
	case "", ".":
	case "..":
		resolved = parent[:max(strings.LastIndexByte(parent, '/'), 0)]
		if resolved == "" {
			resolved = "/"
		}
	default:
		resolved = join(parent, last)
		if to, err := os.Readlink(resolved); err == nil {
			resolved = f.dir(absolute(parent, to), links+1)
		}
	}
	f.dirs[path] = resolved
	return resolved
}
