package watch

import (
	"path/filepath"
	"time"
)

// Survey is what watching for some interests takes.
type Survey struct {
	Folders   int           // that are watched
	Files     int           // in them
	Concerned int           // of these, files that some interest hears of
	Polled    int           // folders that are looked at in place of being told of
	Took      time.Duration // until all was watched
	// Unmatched are, by key and index, the rules that match no file that is there.
	Unmatched map[string][]int
	// Excluded are those of them that match files which are kept out.
	Excluded map[string][]int
}

// Look watches for the interests for a moment and says what that takes.
func Look(root string, interests []Interest) (Survey, error) {
	root = filepath.ToSlash(root)
	t := newTree(root)
	k, err := openKernel()
	if k != nil {
		defer k.close()
		t.kernel = k
	} else if err != errLimit {
		return Survey{}, err
	}
	began := time.Now()
	t.want(interests)
	s := Survey{Took: time.Since(began), Unmatched: map[string][]int{}, Excluded: map[string][]int{}}
	matched := map[accept]bool{}
	t.eachFolder(func(f *folder) {
		s.Files += len(f.files)
		if f.watched {
			s.Folders++
		} else {
			s.Polled++
		}
		for name := range f.files {
			if t.matcher.count(f, name, matched) {
				s.Concerned++
			}
		}
	})
	var idle []accept
	var patterns []string
	for i, in := range t.matcher.interests {
		for r := range in.rules {
			if a := (accept{i, r}); !matched[a] {
				s.Unmatched[in.Key] = append(s.Unmatched[in.Key], r)
				idle, patterns = append(idle, a), append(patterns, in.Rules[r].Pattern)
			}
		}
	}
	for n, there := range MatchAny(root, patterns) {
		if in := t.matcher.interests[idle[n].interest]; there {
			s.Excluded[in.Key] = append(s.Excluded[in.Key], idle[n].rule)
		}
	}
	return s, nil
}

// count notes which rules match a file, and reports whether any interest hears of it.
func (m *matcher) count(f *folder, name string, matched map[accept]bool) bool {
	if IsNoise(name) {
		return false
	}
	file := f.place.enter(name)
	out := f.ignores(name, false)
	for _, n := range file.nodes {
		for _, a := range n.accepts {
			if m.interests[a.interest].takes(file.covered, out) {
				matched[a] = true
			}
		}
	}
	return len(m.hears(f.place, name, out)) > 0
}
