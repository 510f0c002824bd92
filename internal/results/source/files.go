// Package source finds the source files that output names: absolute, relative to the unit's directory or to a Go
// package, or by their base name only. It reads directories, remembers what it has found, and is for one goroutine.
package source

import (
	"cmp"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"omnivigil/internal/text/location"
)

// Files finds the files that output names. It is for one goroutine.
type Files struct {
	dir     string
	folders []string // that relative names may be relative to, most likely first
	known   map[string]string
	bases   map[string]string // see byBase
	module  string            // the path of the Go module that contains dir; "-": none
	modRoot string
}

func New(dir, root string) *Files {
	f := &Files{dir: dir, folders: []string{dir}, known: map[string]string{}}
	if root != "" && root != dir {
		f.folders = append(f.folders, root)
	}
	return f
}

// maxKnown limits the remembered names.
const maxKnown = 20000

// Find returns the absolute path of a named file, or the name if it does not exist. The given directories are tried
// after the unit's own.
func (f *Files) Find(name string, also ...string) string {
	if strings.HasPrefix(name, "file://") {
		if u, err := url.Parse(name); err == nil {
			name = u.Path
		}
	}
	key := name
	if len(also) > 0 {
		key = also[0] + "\x00" + name
	}
	if path, ok := f.known[key]; ok {
		return path
	}
	path := name
	if filepath.IsAbs(name) {
		path = filepath.Clean(name)
	} else {
		for _, folder := range append(append([]string(nil), also...), f.folders...) {
			full := filepath.Join(folder, filepath.FromSlash(name))
			if info, err := os.Stat(full); err == nil && info.Mode().IsRegular() {
				path = full
				break
			}
		}
	}
	if path == name && slices.Contains(baseNames, filepath.Ext(name)) && !strings.ContainsAny(name, `/\`) {
		path = cmp.Or(f.byBase(name), name)
	}
	if len(f.known) < maxKnown {
		f.known[key] = path
	}
	return path
}

// Short returns a path relative to the unit's directory, if it is below that.
func (f *Files) Short(path string) string {
	if rel, err := filepath.Rel(f.dir, path); err == nil && filepath.IsLocal(rel) {
		return filepath.ToSlash(rel)
	}
	return path
}

// baseNames are the suffixes of files that their runtime names without the directory.
var baseNames = []string{".java", ".kt", ".scala", ".groovy"}

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

var othersFolder = regexp.MustCompile(`(^|/)(node_modules|site-packages|vendor|\.cargo|\.venv|venv|target|\.tox)/`)

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

var moduleLine = regexp.MustCompile(`(?m)^module\s+"?([^\s"]+)`)

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
