// Package source finds the source files that output names: absolute, relative to the unit's directory or to a Go
// package, or by their base name only. It reads directories, remembers what it has found, and is for one goroutine.
package source

import (
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"omnivigil/internal/text/lazyregexp"
	"omnivigil/internal/text/location"
)

// Files finds the files that output names. It is for one goroutine.
type Files struct {
	dir     string
	folders []string // that relative names may be relative to, most likely first
	known   map[string]place
	bases   map[string]string // see byBase
	module  string            // the path of the Go module that contains dir; "-": none
	modRoot string
	read    struct { // see Line
		path  string
		lines []string
	}
}

func New(dir, root string) *Files {
	f := &Files{dir: dir, folders: []string{dir}, known: map[string]place{}}
	if root != "" && root != dir {
		f.folders = append(f.folders, root)
	}
	return f
}

// maxKnown limits the remembered names.
const maxKnown = 20000

// Find returns the absolute path of a named file, or the name if it does not exist. The given directories are tried
// after the unit's own.
func (f *Files) Find(name string, also ...string) string { return f.look(name, also).path }

// Existing returns the absolute path of a named file, and whether it exists as a regular file.
func (f *Files) Existing(name string) (string, bool) {
	at := f.look(name, nil)
	if !at.exists && filepath.IsAbs(at.path) && !at.checked {
		at.checked, at.exists = true, isFile(at.path)
		f.remember(name, at)
	}
	return at.path, at.exists
}

// place is what is known of a named file.
type place struct {
	path    string
	exists  bool
	checked bool      // an absolute path: whether it exists has been checked
	at      time.Time // when it was found missing
}

// MissingFor is how long a file that did not exist counts as missing: it may be created while the unit runs.
const MissingFor = time.Second

// look finds a named file. It does not check whether an absolute path exists.
func (f *Files) look(name string, also []string) place {
	key := name
	if len(also) > 0 {
		key = also[0] + "\x00" + name
	}
	if at, ok := f.known[key]; ok && (at.at.IsZero() || time.Since(at.at) < MissingFor) {
		return at
	}
	at := f.search(name, also)
	f.remember(key, at)
	return at
}

func (f *Files) search(name string, also []string) place {
	if strings.HasPrefix(name, "file://") {
		if u, err := url.Parse(name); err == nil {
			name = u.Path
		}
	}
	if filepath.IsAbs(name) {
		return place{path: filepath.Clean(name)}
	}
	for _, folder := range append(slices.Clone(also), f.folders...) {
		if full := filepath.Join(folder, filepath.FromSlash(name)); isFile(full) {
			return place{path: full, exists: true}
		}
	}
	if slices.Contains(baseNames, filepath.Ext(name)) && !strings.ContainsAny(name, `/\`) {
		if path := f.byBase(name); path != "" {
			return place{path: path, exists: true}
		}
	}
	return place{path: name}
}

func (f *Files) remember(key string, at place) {
	if len(f.known) >= maxKnown {
		clear(f.known)
	}
	if !at.exists && (at.checked || !filepath.IsAbs(at.path)) {
		at.at = time.Now()
	}
	f.known[key] = at
}

func isFile(path string) bool {
	info, err := os.Stat(path)
	return err == nil && info.Mode().IsRegular()
}

// Line returns a line of a file, counted from 1; empty: it cannot be read, or the file is very large. It reads the
// file and remembers the newest one.
func (f *Files) Line(path string, n int) string {
	const largest = 4 << 20
	if f.read.path != path {
		f.read.path, f.read.lines = path, nil
		if info, err := os.Stat(path); err == nil && info.Mode().IsRegular() && info.Size() <= largest {
			text, _ := os.ReadFile(path)
			f.read.lines = strings.Split(string(text), "\n")
		}
	}
	if n < 1 || n > len(f.read.lines) {
		return ""
	}
	return f.read.lines[n-1]
}

// Short returns a path relative to the unit's directory, if it is below that.
func (f *Files) Short(path string) string {
	if rel, err := filepath.Rel(f.dir, path); err == nil && filepath.IsLocal(rel) {
		return filepath.ToSlash(rel)
	}
	return path
}

// baseNames are the suffixes of files that runtimes and linkers name without the directory.
var baseNames = []string{".java", ".kt", ".scala", ".groovy", ".c", ".cc", ".cpp", ".cxx"}

// byBase returns the only file with a name below the unit's directory; empty: there is none, or several. It walks
// through the directories once.
func (f *Files) byBase(name string) string {
	const most = 20000
	if f.bases == nil {
		f.bases = map[string]string{}
		seen := 0
		_ = filepath.WalkDir(f.dir, func(path string, entry fs.DirEntry, err error) error {
			if seen++; err != nil || seen > most {
				return filepath.SkipAll
			}
			base := entry.Name()
			if entry.IsDir() {
				if path != f.dir && (strings.HasPrefix(base, ".") || othersFolder.MatchString("/"+base+"/")) {
					return filepath.SkipDir
				}
				return nil
			}
			if slices.Contains(baseNames, filepath.Ext(base)) {
				if _, twice := f.bases[base]; twice {
					path = ""
				}
				f.bases[base] = path
			}
			return nil
		})
	}
	return f.bases[name]
}

// Own reports whether a file belongs to the user: it is below the unit's directory, and in none of the directories
// with code of others.
func (f *Files) Own(path string) bool {
	path = f.Find(path)
	if !filepath.IsAbs(path) {
		return false
	}
	for _, folder := range f.folders {
		if rel, err := filepath.Rel(
			folder,
			path,
		); err == nil && filepath.IsLocal(rel) &&
			!othersFolder.MatchString(filepath.ToSlash(rel)) {
			return true
		}
	}
	return false
}

var othersFolder = lazyregexp.New(`(^|/)(node_modules|site-packages|vendor|\.cargo|\.venv|venv|target|\.tox)/`)

// Enter adds a directory that later names are relative to, as make reports it.
func (f *Files) Enter(folder string) {
	if len(f.folders) < 50 {
		f.folders = append(f.folders, folder)
		clear(f.known)
	}
}

// PackageFolder returns the directory of a Go package in the module that contains the unit's directory; empty:
// unknown. It reads go.mod once.
func (f *Files) PackageFolder(pkg string) string {
	if f.module == "" {
		f.module = "-"
		for dir := f.dir; ; dir = filepath.Dir(dir) {
			if text, err := os.ReadFile(filepath.Join(dir, "go.mod")); err == nil {
				if m := moduleLine.FindSubmatch(text); m != nil {
					f.module, f.modRoot = string(m[1]), dir
				}
				break
			}
			if dir == filepath.Dir(dir) {
				break
			}
		}
	}
	pkg, _, _ = strings.Cut(pkg, " ")
	pkg = strings.TrimSuffix(pkg, "_test")
	switch rest, ok := strings.CutPrefix(pkg, f.module); {
	case f.module == "-" || !ok:
		return ""
	case rest == "" || strings.HasPrefix(rest, "/"):
		return filepath.Join(f.modRoot, filepath.FromSlash(rest))
	}
	return ""
}

var moduleLine = lazyregexp.New(`(?m)^module\s+"?([^\s"]+)`)

// Number parses a line or column; 0: it is none.
func Number(text string) int {
	n, err := strconv.Atoi(text)
	if err != nil || n < 0 {
		return 0
	}
	return n
}

// Place is a location as a tool writes it; invalid numbers are 0.
func Place(file, line, column string) location.Location {
	return location.Location{File: file, Line: Number(line), Column: Number(column)}
}
