package watch

import (
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"omnivigil/internal/text/suggest"
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
		a := Answer{Key: c.Key, Noise: IsNoise(file), Hears: hearing[i] && !IsNoise(file), Rule: -1}
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
				likeness := suggest.Likeness(below(branch, depth), below(elements, depth))
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
	found := map[string]bool{}
	newMatcher(root, []Interest{in}).walk(func(file string, _ []accept) { found[filepath.FromSlash(file)] = true })
	return slices.Sorted(maps.Keys(found))
}

// MatchAny reports for each pattern whether any file that is there matches it, ignored or
// not, with one walk for all.
func MatchAny(root string, patterns []string) []bool {
	interests := make([]Interest, len(patterns))
	for i, text := range patterns {
		interests[i] = Interest{Key: strconv.Itoa(i), Rules: []Rule{{Pattern: text}}}
	}
	matched := make([]bool, len(patterns))
	newMatcher(root, interests).walk(func(_ string, hears []accept) {
		for _, a := range hears {
			matched[a.interest] = true
		}
	})
	return matched
}

// walk visits every file that some interest hears of, whether version control ignores
// it or not.
func (m *matcher) walk(visit func(file string, hears []accept)) {
	walked := map[string]bool{}
	for _, in := range m.interests {
		for _, p := range in.rules {
			if base := existing(p.base()); !walked[base] {
				walked[base] = true
				m.walkFolder(base, m.at(base), visit)
			}
		}
	}
}

func (m *matcher) walkFolder(dir string, at place, visit func(string, []accept)) {
	entries, _ := os.ReadDir(filepath.FromSlash(dir))
	for _, entry := range entries {
		name := entry.Name()
		file := path.Join(dir, name)
		if name == ".git" || IsNoise(name) {
			continue
		}
		if entry.IsDir() {
			if below := at.enter(name); m.wants(below, false) {
				m.walkFolder(file, below, visit)
			}
		} else if hears := m.hears(at, name, false); len(hears) > 0 {
			visit(file, hears)
		}
	}
}

// Matches reports whether a pattern, relative to root, matches the file, or a folder that it is in.
func Matches(root, text, file string) bool {
	root = filepath.ToSlash(root)
	return compile(root, text).covers(absolute(root, file))
}
