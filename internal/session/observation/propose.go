package observation

import (
	"io/fs"
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"omnivigil/internal/text/escape"
	"omnivigil/internal/watch/pattern"
)

// maxExtra is how many other files a proposed pattern may cover, in addition to those that it is proposed for.
const maxExtra = 20

// maxProjectFiles limits the files that are considered for patterns.
const maxProjectFiles = 50_000

// projectFiles are the files of the project that version control does not ignore.
type projectFiles struct{ names []string }

func (c *comparison) projectFiles() *projectFiles {
	if c.files != nil {
		return c.files
	}
	c.files = &projectFiles{}
	filepath.WalkDir(c.plan.Root, func(file string, d fs.DirEntry, err error) error {
		name, relErr := filepath.Rel(c.plan.Root, file)
		switch {
		case err != nil || relErr != nil || name == ".":
			return nil
		case len(c.files.names) >= maxProjectFiles:
			return fs.SkipAll
		case c.explainer.Excluded(filepath.ToSlash(name)) != "":
			if d.IsDir() {
				return fs.SkipDir
			}
		case d.Type().IsRegular():
			c.files.names = append(c.files.names, filepath.ToSlash(name))
		}
		return nil
	})
	return c.files
}

// patternsFor returns patterns that cover files, as a person would write them: by directories and extensions if they
// are several. None covers more than maxExtra other files that version control does not ignore. What the unit has read
// or its rules cover is no other file; it may be nil.
func (c *comparison) patternsFor(u *unitSeen, files []string) []string {
	wanted := map[string]bool{}
	for _, name := range files {
		if escape.Text(name) == name { // others cannot be shown, so a user could not agree to them
			wanted[name] = true
		}
	}
	known := maps.Clone(wanted)
	if u != nil {
		for _, r := range u.reads {
			known[r.name] = true
		}
	}
	byExt := map[string][]string{}
	for name := range wanted {
		ext := path.Ext(name)
		byExt[ext] = append(byExt[ext], name)
	}
	var all []string
	for _, ext := range slices.Sorted(maps.Keys(byExt)) {
		var others []string
		for _, name := range c.projectFiles().names {
			if path.Ext(name) == ext && !known[name] {
				others = append(others, name)
			}
		}
		slices.Sort(byExt[ext])
		all = append(all, cover(byExt[ext], others, ext)...)
	}
	slices.Sort(all)
	return all
}

// cover returns patterns for files with one extension. Others are the other files with it.
func cover(files, others []string, ext string) []string {
	dir := commonDir(files)
	below := prefix(dir)
	switch {
	case len(files) == 1 || ext == "":
		return literals(files)
	case allIn(files, dir):
		if len(inside(others, below, true)) <= maxExtra && (dir != "" || len(files) > fewInRoot) {
			return []string{pattern.Literal(below) + "*" + pattern.Literal(ext)}
		}
		return literals(files)
	case dir != "" && len(inside(others, below, false)) <= maxExtra:
		return []string{pattern.Literal(below) + "**/*" + pattern.Literal(ext)}
	}
	// One pattern would cover too much: one for each directory below.
	parts := map[string][]string{}
	for _, name := range files {
		first, _, deeper := strings.Cut(strings.TrimPrefix(name, below), "/")
		if !deeper {
			first = ""
		}
		parts[first] = append(parts[first], name)
	}
	var all []string
	for _, first := range slices.Sorted(maps.Keys(parts)) {
		all = append(all, cover(parts[first], others, ext)...)
	}
	return all
}

// fewInRoot is how many files in the project's own directory are named one by one: manifests have little in common but
// their extension.
const fewInRoot = 4

func literals(files []string) []string {
	all := make([]string, len(files))
	for i, name := range files {
		all[i] = pattern.Literal(name)
	}
	return all
}

// prefix is what begins the names of files in a directory.
func prefix(dir string) string {
	if dir == "" {
		return ""
	}
	return dir + "/"
}

// commonDir returns the deepest directory that has all files in or below it; empty: the project's.
func commonDir(files []string) string {
	dir := parent(files[0])
	for _, name := range files[1:] {
		for dir != "" && !strings.HasPrefix(name, dir+"/") {
			dir = parent(dir)
		}
	}
	return dir
}

func parent(name string) string {
	if dir := path.Dir(name); dir != "." {
		return dir
	}
	return ""
}

func allIn(files []string, dir string) bool {
	return !slices.ContainsFunc(files, func(name string) bool { return parent(name) != dir })
}

// inside returns the files below a directory, or directly in it.
func inside(files []string, below string, directly bool) []string {
	var all []string
	for _, name := range files {
		rest, is := strings.CutPrefix(name, below)
		if is && !(directly && strings.Contains(rest, "/")) {
			all = append(all, name)
		}
	}
	return all
}
