package watch

import (
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/agext/levenshtein"
)

// Answer is what one interest makes of a path.
type Answer struct {
	Key      string
	Hears    bool
	Rule     int    // index of the rule that matched; -1 if none did
	Pattern  string // its pattern
	Captures map[string]string
	Ignored  string // its own pattern that keeps the path out, if one does
	Excluded string // the rule of version control that does, with its place
	Noise    bool   // no interest ever hears of such a path
}

// Explain says for each interest whether it would hear of a write to the path,
// which may be absolute or relative to root, and by which pattern or why not.
func Explain(root string, interests []Interest, file string) []Answer {
	root = filepath.ToSlash(root)
	file = absolute(root, file)
	m := newMatcher(root, interests)
	rule := excludedBy(file)
	folder, name := m.at(path.Dir(file)), path.Base(file)
	hearing := map[int]bool{}
	for _, a := range m.hears(folder, name, rule != "") {
		hearing[a.interest] = true
	}
	var answers []Answer
	for i, c := range m.interests {
		a := Answer{Key: c.Key, Noise: isNoise(file), Hears: hearing[i] && !isNoise(file), Rule: -1}
		for r, p := range c.rules {
			if p.match(file) {
				a.Rule, a.Pattern, a.Captures = r, p.text, p.capture(file)
				break
			}
		}
		for n, p := range c.ignore {
			if p.covers(file) {
				a.Ignored = c.Ignore[n]
				break
			}
		}
		if !c.Unignored {
			a.Excluded = rule
		}
		answers = append(answers, a)
	}
	return answers
}

// excludedBy returns the rule by which version control ignores a file, with its
// place, or "". It need not be there.
func excludedBy(file string) string {
	var rules *scope
	dir := "/"
	parts := elements(file)
	for i, name := range parts {
		if r := openRepository(dir); r != nil {
			rules = r.below
		}
		rules = rules.with(dir, path.Join(dir, ignoreName))
		dir = path.Join(dir, name)
		if name == ".git" {
			return "version control's own folder"
		}
		last := i == len(parts)-1
		if r := rules.decides(dir, !last || stat(dir).kind == isFolder); r != nil && !r.negated {
			return r.String()
		}
	}
	return ""
}

func absolute(root, file string) string {
	if file = filepath.ToSlash(file); !path.IsAbs(file) {
		file = path.Join(root, file)
	}
	return path.Clean(file)
}

// Nearest returns the key and the pattern that almost match the path: whose
// folders agree furthest, and then whose text is most like it. It returns ""
// where none comes near.
func Nearest(root string, interests []Interest, file string) (key, pattern string) {
	root = filepath.ToSlash(root)
	file = absolute(root, file)
	elements := strings.Split(strings.TrimPrefix(file, "/"), "/")
	depth := len(strings.Split(strings.TrimPrefix(root, "/"), "/"))
	best := 0.0
	for _, in := range interests {
		for _, rule := range in.Rules {
			for _, branch := range compile(root, rule.Pattern).branches {
				agree := 0
				for agree < min(len(branch), len(elements)) && reaches(branch[:agree+1], elements[:agree]) && agrees(branch[agree], elements[agree]) {
					agree++
				}
				likeness := levenshtein.Similarity(below(branch, depth), below(elements, depth), nil)
				score := float64(max(agree-depth, 0)) + likeness
				if score > best && (agree > depth || likeness > 0.5) {
					best, key, pattern = score, in.Key, rule.Pattern
				}
			}
		}
	}
	return key, pattern
}

// below joins the elements that are below the root.
func below(elements []string, depth int) string {
	return strings.Join(elements[min(depth, len(elements)):], "/")
}

func agrees(element, name string) bool {
	return element == "**" || pattern{absolute: element}.match(name)
}

// Files returns the files that any of the patterns matches now, as absolute paths
// in order, whether version control ignores them or not.
func Files(root string, patterns []string) []string {
	root = filepath.ToSlash(root)
	in := Interest{}
	for _, text := range patterns {
		in.Rules = append(in.Rules, Rule{Pattern: text})
	}
	m := newMatcher(root, []Interest{in})
	found := map[string]bool{}
	for _, p := range m.interests[0].rules {
		base := existing(p.base())
		m.collect(base, m.at(base), found)
	}
	return slices.Sorted(maps.Keys(found))
}

func (m *matcher) collect(dir string, at place, found map[string]bool) {
	entries, _ := os.ReadDir(filepath.FromSlash(dir))
	for _, entry := range entries {
		name := entry.Name()
		file := path.Join(dir, name)
		switch {
		case name == ".git" || isNoise(name):
		case entry.IsDir():
			if below := at.enter(name); m.wants(below, false) {
				m.collect(file, below, found)
			}
		case len(m.hears(at, name, false)) > 0:
			found[filepath.FromSlash(file)] = true
		}
	}
}
