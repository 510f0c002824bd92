package watch

import "omnivigil/internal/watch/pattern"

import "omnivigil/internal/watch/repository"

import (
	"path"
	"path/filepath"
	"strings"

	"omnivigil/internal/files"
	"omnivigil/internal/text/suggest"
)

// Answer is what a write to a path means for one interest.
type Answer struct {
	Key      string
	Hears    bool
	Rule     int    // the index of the rule that matched; -1: none did
	Pattern  string // its pattern
	Captures map[string]string
	Ignored  string // the ignore pattern of the interest that excludes the path
	Excluded string // the rule of version control that excludes it, with its location
	Noise    bool   // such a path never affects any interest
}

// Explainer explains what writes to paths mean for interests, with the ignore files as they were when it first read
// them. It is for one goroutine.
type Explainer struct {
	root    string
	matcher *pattern.Matcher
	rules   repository.Rules
}

// NewExplainer returns an explainer. It reads nothing.
func NewExplainer(root string, interests []pattern.Interest) *Explainer {
	root = filepath.ToSlash(root)
	return &Explainer{root: root, matcher: pattern.NewMatcher(root, interests)}
}

// Explain returns for each interest whether a write to the path would affect it, and by which pattern; or why not.
// The path may be absolute or relative to root.
func Explain(root string, interests []pattern.Interest, file string) []Answer {
	return NewExplainer(root, interests).Explain(file)
}

// Excluded returns the rule of version control that excludes a path, with its location, or "".
func (e *Explainer) Excluded(file string) string {
	return e.rules.ExcludedBy(files.Absolute(e.root, file))
}

// Explain returns for each interest, in their order, what a write to the path means.
func (e *Explainer) Explain(file string) []Answer {
	file = files.Absolute(e.root, file)
	m := e.matcher
	rule := e.rules.ExcludedBy(file)
	folder, name := m.At(path.Dir(file)), path.Base(file)
	hearing := map[int]bool{}
	for _, a := range m.Hears(folder, name, rule != "") {
		hearing[a.Interest] = true
	}
	var answers []Answer
	for i, c := range m.Interests {
		a := Answer{Key: c.Key, Noise: pattern.IsNoise(file), Hears: hearing[i] && !pattern.IsNoise(file), Rule: -1}
		for r, p := range c.RulePatterns {
			if p.Match(file) {
				a.Rule, a.Pattern, a.Captures = r, p.Text, p.Capture(file)
				break
			}
		}
		for n, p := range c.IgnorePatterns {
			if p.Covers(file) {
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

// Nearest returns the key and the pattern that almost match the path: those whose directories agree furthest, and
// among them the most similar text. It returns "" if none is similar.
func Nearest(root string, interests []pattern.Interest, file string) (key, text string) {
	root = filepath.ToSlash(root)
	file = files.Absolute(root, file)
	elements := strings.Split(strings.TrimPrefix(file, "/"), "/")
	depth := len(strings.Split(strings.TrimPrefix(root, "/"), "/"))
	best := 0.0
	for _, in := range interests {
		for _, rule := range in.Rules {
			for _, branch := range pattern.Compile(root, rule.Pattern).Branches {
				agree := 0
				for agree < min(len(branch), len(elements)) && pattern.Reaches(branch[:agree+1], elements[:agree]) &&
					agrees(branch[agree], elements[agree]) {
					agree++
				}
				likeness := suggest.Likeness(below(branch, depth), below(elements, depth))
				score := float64(max(agree-depth, 0)) + likeness
				if score > best && (agree > depth || likeness > 0.5) {
					best, key, text = score, in.Key, rule.Pattern
				}
			}
		}
	}
	return key, text
}

// below returns the elements of a path below root.
func below(elements []string, depth int) string {
	return strings.Join(elements[min(depth, len(elements)):], "/")
}

func agrees(element, name string) bool {
	return element == "**" || pattern.Pattern{Absolute: element}.Match(name)
}
