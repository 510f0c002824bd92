package pattern

import (
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"

	"omnivigil/internal/files"
)

// Files returns the files that match any of the patterns now, as absolute paths in order, whether version control
// ignores them or not.
func Files(root string, patterns []string) []string { return matching(root, patterns, false) }

// Everything returns what Files returns, and the empty directories in which any file would match.
func Everything(root string, patterns []string) []string { return matching(root, patterns, true) }

func matching(root string, patterns []string, withEmpty bool) []string {
	in := Interest{}
	for _, text := range patterns {
		in.Rules = append(in.Rules, Rule{Pattern: text})
	}
	found := map[string]bool{}
	add := func(name string) { found[filepath.FromSlash(name)] = true }
	empty := add
	if !withEmpty {
		empty = nil
	}
	NewMatcher(filepath.ToSlash(root), []Interest{in}).walk(func(file string, _ []Match) { add(file) }, empty)
	return slices.Sorted(maps.Keys(found))
}

// MatchAny reports for each pattern whether any existing file matches it, ignored or not, with one walk for all.
func MatchAny(root string, patterns []string) []bool {
	interests := make([]Interest, len(patterns))
	for i, text := range patterns {
		interests[i] = Interest{Key: strconv.Itoa(i), Rules: []Rule{{Pattern: text}}}
	}
	matched := make([]bool, len(patterns))
	NewMatcher(root, interests).walk(func(_ string, hears []Match) {
		for _, a := range hears {
			matched[a.Interest] = true
		}
	}, nil)
	return matched
}

// walk visits every file that affects some interest, whether version control ignores it or not. Empty, if set, is
// called with each empty directory in which any file would affect one.
func (m *Matcher) walk(visit func(file string, hears []Match), empty func(dir string)) {
	walked := map[string]bool{}
	for _, in := range m.Interests {
		for _, p := range in.RulePatterns {
			if base := files.Existing(p.Base()); !walked[base] {
				walked[base] = true
				m.walkFolder(base, m.At(base), visit, empty)
			}
		}
	}
}

func (m *Matcher) walkFolder(dir string, at Place, visit func(string, []Match), empty func(string)) {
	const someName = "a name that no pattern has"
	entries, err := os.ReadDir(filepath.FromSlash(dir))
	if err == nil && len(entries) == 0 && empty != nil && len(m.Hears(at, someName, false)) > 0 {
		empty(dir)
	}
	for _, entry := range entries {
		name := entry.Name()
		file := path.Join(dir, name)
		if name == ".git" || IsNoise(name) {
			continue
		}
		if entry.IsDir() {
			if below := at.Enter(name); m.Wants(below, false) {
				m.walkFolder(file, below, visit, empty)
			}
		} else if hears := m.Hears(at, name, false); len(hears) > 0 {
			visit(file, hears)
		}
	}
}

// Matches reports whether a pattern, relative to root, matches the file or a directory above it.
func Matches(root, text, file string) bool {
	root = filepath.ToSlash(root)
	return Compile(root, text).Covers(files.Absolute(root, file))
}
