package project

import (
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"omnivigil/internal/text/lazyregexp"
	"omnivigil/internal/watch/pattern"
)

// notOurs are directories whose contents are installed, built, or data of tests.
var notOurs = []string{
	"node_modules", "vendor", "testdata", "fixtures", "__fixtures__", "__tests__", "target", "dist", "build", "out",
	"venv", "env", "site-packages", "__pycache__", "third_party", "bower_components",
}

func isOurs(name string) bool {
	return !strings.HasPrefix(name, ".") && !slices.Contains(notOurs, name)
}

// IsExample reports whether a path is that of an example, of documentation or of tests: a program there should not run
// unless a user asks for it.
func IsExample(file string) bool {
	return slices.ContainsFunc(strings.Split(file, "/"), func(element string) bool {
		return slices.Contains([]string{
			"example", "examples", "_examples", "sample", "samples", "demo", "demos", "playground", "sandbox",
			"tutorial", "tutorials", "doc", "docs", "docs_src", "test", "tests", "bench", "benchmark", "benchmarks",
			"e2e", "integration", "interop", "scripts", "hack",
		}, element)
	})
}

// directories returns ".", and the directories up to two levels below that may have manifests, shallow ones first.
func (p *Project) directories() []string {
	all := []string{"."}
	all = append(all, p.within(".")...)
	for _, dir := range all[1:] {
		all = append(all, p.within(dir)...)
	}
	return all
}

func (p *Project) within(dir string) []string {
	const most = 200 // in one directory
	entries, _ := os.ReadDir(filepath.Join(p.Root, dir))
	var found []string
	for _, e := range entries {
		if e.IsDir() && isOurs(e.Name()) && len(found) < most {
			found = append(found, path.Join(dir, e.Name()))
		}
	}
	return found
}

// Places returns the directories with one of several manifests, except those below another one.
func (p *Project) Places(manifests ...string) []string {
	var found []string
	for _, dir := range p.Shallow {
		if slices.ContainsFunc(found, func(above string) bool { return IsWithin(dir, above) }) {
			continue
		}
		if p.FirstIn(dir, manifests...) != "" {
			found = append(found, dir)
		}
	}
	return found
}

// IsWithin reports whether a directory is another one, or below it.
func IsWithin(dir, above string) bool {
	return above == "." || dir == above || strings.HasPrefix(dir, above+"/")
}

// Base returns the beginning of the names of units in a directory: its own name; empty for the project's directory.
func Base(dir string) string {
	if dir == "." || dir == "" {
		return ""
	}
	return path.Base(dir)
}

// Named returns the name of a unit in a directory.
func Named(dir, name string) string {
	if b := Base(dir); b != "" {
		return b + "-" + name
	}
	return name
}

// AsDir returns a directory as the value of the key dir.
func AsDir(dir string) string {
	if dir == "." {
		return ""
	}
	return dir
}

// Read returns a file's text; "": it cannot be read.
func (p *Project) Read(name string) string {
	const most = 1 << 20
	info, err := os.Stat(filepath.Join(p.Root, name))
	if err != nil || !info.Mode().IsRegular() || info.Size() > most {
		return ""
	}
	text, _ := os.ReadFile(filepath.Join(p.Root, name))
	return string(text)
}

// Has reports whether a file or directory exists.
func (p *Project) Has(name string) bool {
	_, err := os.Stat(filepath.Join(p.Root, name))
	return err == nil
}

// FirstIn returns the path of the first of several files that exists in a directory, or "".
func (p *Project) FirstIn(dir string, names ...string) string {
	for _, name := range names {
		if p.Has(path.Join(dir, name)) {
			return path.Join(dir, name)
		}
	}
	return ""
}

// maxFiles limits the files that are read in one project.
const maxFiles = 20_000

// Files calls take with every file in a directory with one of the extensions, relative to the project's directory,
// except vendored, installed and hidden ones.
func (p *Project) Files(dir string, take func(name string), endings ...string) {
	n := 0
	top := filepath.Join(p.Root, dir)
	filepath.WalkDir(top, func(file string, e fs.DirEntry, err error) error {
		if err != nil {
			return nil
		}
		if e.IsDir() {
			if file != top && !isOurs(e.Name()) {
				return fs.SkipDir
			}
			return nil
		}
		if n++; n > maxFiles {
			return fs.SkipAll
		}
		if slices.Contains(endings, filepath.Ext(e.Name())) {
			if rel, err := filepath.Rel(p.Root, file); err == nil {
				take(filepath.ToSlash(rel))
			}
		}
		return nil
	})
}

// In prefixes patterns with a directory, whose characters are escaped.
func In(dir string, patterns ...string) []string {
	out := make([]string, len(patterns))
	for i, p := range patterns {
		out[i] = path.Join(pattern.Literal(dir), p)
	}
	return out
}

// isIgnored reports whether a line of a directory's ignore file names a file.
func (p *Project) isIgnored(dir, name string) bool {
	name = strings.Trim(path.Clean(name), "/")
	for line := range strings.Lines(p.Read(path.Join(dir, ".gitignore"))) {
		if line = strings.Trim(strings.TrimSpace(line), "/"); line != "" &&
			(line == name || strings.HasPrefix(name, line+"/")) {
			return name != "." && !strings.HasPrefix(name, "..")
		}
	}
	return false
}

// GlobFiles returns the files that a pattern of the file system matches.
func (p *Project) GlobFiles(pattern string) []string {
	found, _ := filepath.Glob(filepath.Join(p.Root, filepath.FromSlash(pattern)))
	for i, file := range found {
		rel, _ := filepath.Rel(p.Root, file)
		found[i] = filepath.ToSlash(rel)
	}
	return found
}

// Existing returns those of several files in a directory that exist, as patterns.
func (p *Project) Existing(dir string, names ...string) []string {
	var found []string
	for _, name := range names {
		if p.Has(path.Join(dir, name)) {
			found = append(found, In(dir, name)...)
		}
	}
	return found
}

// At names a place in a file for users; without a line if the offset is negative.
func At(file, text string, offset int) string {
	if offset < 0 {
		return file
	}
	return fmt.Sprintf("%s:%d", file, strings.Count(text[:offset], "\n")+1)
}

// AtMatch is At for the first match of an expression.
func AtMatch(file, text string, of *lazyregexp.Regexp) string {
	if found := of.FindStringIndex(text); found != nil {
		return At(file, text, found[0])
	}
	return file
}

// HasSources reports whether a directory has files with an extension.
func (p *Project) HasSources(dir string, endings ...string) bool {
	has := false
	p.Files(dir, func(string) { has = true }, endings...)
	return has
}
