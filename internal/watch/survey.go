package watch

import (
	"path/filepath"
	"time"

	"omnivigil/internal/watch/kernel"
	"omnivigil/internal/watch/pattern"
)

// Survey is what watching for some interests costs.
type Survey struct {
	Folders   int           // watched directories
	Files     int           // the files in them
	Concerned int           // those of these files that affect an interest
	Polled    int           // directories that are polled
	Took      time.Duration // until everything was watched
	// Unmatched are, by key and index, the rules that match no existing file.
	Unmatched map[string][]int
	// Excluded are those of them that match only excluded files.
	Excluded map[string][]int
}

// Look watches for the interests for a moment and returns what that costs.
func Look(root string, interests []pattern.Interest) (Survey, error) {
	root = filepath.ToSlash(root)
	t := newTree(root)
	k, err := kernel.Open()
	if k != nil {
		defer k.Close()
		t.kernel = k
	} else if err != kernel.ErrLimit {
		return Survey{}, err
	}
	began := time.Now()
	t.want(interests)
	s := Survey{Took: time.Since(began), Unmatched: map[string][]int{}, Excluded: map[string][]int{}}
	matched := map[pattern.Match]bool{}
	t.eachFolder(func(f *folder) {
		s.Files += len(f.files)
		if f.watched {
			s.Folders++
		} else {
			s.Polled++
		}
		for name := range f.files {
			if t.matcher.Count(f.place, name, f.ignores(name, false), matched) {
				s.Concerned++
			}
		}
	})
	var idle []pattern.Match
	var patterns []string
	for i, in := range t.matcher.Interests {
		for r := range in.Rules {
			if a := (pattern.Match{Interest: i, Rule: r}); !matched[a] {
				s.Unmatched[in.Key] = append(s.Unmatched[in.Key], r)
				idle, patterns = append(idle, a), append(patterns, in.Rules[r].Pattern)
			}
		}
	}
	for n, there := range pattern.MatchAny(root, patterns) {
		if in := t.matcher.Interests[idle[n].Interest]; there {
			s.Excluded[in.Key] = append(s.Excluded[in.Key], idle[n].Rule)
		}
	}
	return s, nil
}
