// Package suggest finds the known name that a mistyped one probably means. It is small because the distance comes
// from a library; it is a package of its own because settings, commands, signals and patterns all use it.
package suggest

import (
	"strings"
	"unicode/utf8"

	"github.com/lithammer/fuzzysearch/fuzzy"
)

// minLikeness is how alike two names must be: a word of four letters with two swapped is still alike.
const minLikeness = 0.49

// Name returns the known name that is most like what was typed, ignoring case, or "" if none is like it.
func Name(typed string, known []string) string {
	best, bestLikeness := "", minLikeness
	for _, k := range known {
		if l := Likeness(strings.ToLower(typed), strings.ToLower(k)); l > bestLikeness {
			best, bestLikeness = k, l
		}
	}
	return best
}

// Likeness returns how alike two texts are: 1 if they are equal, 0 if no letter stays. It is the share of letters that
// the Levenshtein distance leaves.
func Likeness(a, b string) float64 {
	length := max(utf8.RuneCountInString(a), utf8.RuneCountInString(b))
	if length == 0 {
		return 1
	}
	return 1 - float64(fuzzy.LevenshteinDistance(a, b))/float64(length)
}
