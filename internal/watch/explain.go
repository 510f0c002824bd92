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
	Ignored  string // the pattern that keeps the path out, if one does
	Noise    bool   // no interest ever hears of such a path
}

// Explain says for each interest whether it would hear of a write to the path,
// which may be absolute or relative to root, and by which pattern or why not.
func Explain(root string, interests []Interest, file string) []Answer {
	root = filepath.ToSlash(root)
	file = absolute(root, file)
	var answers []Answer
	for _, in := range interests {
		c := compileInterest(root, in)
		a := Answer{Key: in.Key, Noise: isNoise(file)}
		a.Rule, a.Hears = c.match(file)
		if a.Rule >= 0 {
			a.Pattern, a.Captures = in.Rules[a.Rule].Pattern, c.rules[a.Rule].capture(file)
		}
		for i, p := range c.ignore {
			if p.covers(file) {
				a.Ignored = in.Ignore[i]
				break
			}
		}
		a.Hears = a.Hears && !a.Noise
		answers = append(answers, a)
	}
	return answers
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

// Unmatched returns, by key and index, the rules that match no file that is there
// now.
func Unmatched(root string, interests []Interest) map[string][]int {
	root = filepath.ToSlash(root)
	out := map[string][]int{}
	for _, in := range interests {
		c := compileInterest(root, in)
		for i, p := range c.rules {
			if !anyFile(&c, p, p.base()) {
				out[in.Key] = append(out[in.Key], i)
			}
		}
	}
	return out
}

// anyFile looks below dir for a file that the pattern matches and nothing ignores.
func anyFile(in *interest, p pattern, dir string) bool {
	if info, err := os.Stat(filepath.FromSlash(dir)); err == nil && !info.IsDir() {
		return p.match(dir)
	}
	entries, err := os.ReadDir(filepath.FromSlash(dir))
	if err != nil {
		return false
	}
	for _, entry := range entries {
		child := path.Join(dir, entry.Name())
		switch {
		case isNoise(child) || in.ignores(child):
		case entry.IsDir():
			if p.reaches(child) && anyFile(in, p, child) {
				return true
			}
		case p.match(child):
			return true
		}
	}
	return false
}

// Files returns the files that any of the patterns matches now, as absolute paths
// in order.
func Files(root string, patterns []string) []string {
	root = filepath.ToSlash(root)
	found := map[string]bool{}
	for _, text := range patterns {
		p := compile(root, text)
		p.collect(p.base(), found)
	}
	return slices.Sorted(maps.Keys(found))
}

func (p pattern) collect(dir string, found map[string]bool) {
	info, err := os.Stat(filepath.FromSlash(dir))
	switch {
	case err != nil || isNoise(dir):
		return
	case !info.IsDir():
		if p.match(dir) {
			found[filepath.FromSlash(dir)] = true
		}
		return
	case !p.reaches(dir):
		return
	}
	entries, _ := os.ReadDir(filepath.FromSlash(dir))
	for _, entry := range entries {
		p.collect(path.Join(dir, entry.Name()), found)
	}
}
