// Package suggest finds the name that somebody has probably meant.
package suggest

import (
	"strings"

	"github.com/agext/levenshtein"
)

// least is how alike two names must be: two letters swapped in a word of four are still
// alike.
const least = 0.49

// Name returns the name among known that is most like what was typed, or "" if none is
// like it.
func Name(typed string, known []string) string {
	best, bestScore := "", least
	for _, k := range known {
		if score := levenshtein.Similarity(strings.ToLower(typed), strings.ToLower(k), nil); score > bestScore {
			best, bestScore = k, score
		}
	}
	return best
}
