// Package suggest finds the known name that a mistyped one probably means. It is small because the distance comes
// from a library; it is separate because settings, commands, signals and patterns all use it.
package suggest

import (
	"fmt"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/lithammer/fuzzysearch/fuzzy"
)

// minLikeness is the minimum similarity of two names: a word of four letters with two swapped is still similar.
const minLikeness = 0.49

// Name returns the known name that is most similar to what was typed, ignoring case, or "" if none is similar.
func Name(typed string, known []string) string {
	best, bestLikeness := "", minLikeness
	for _, k := range known {
		if l := Likeness(strings.ToLower(typed), strings.ToLower(k)); l > bestLikeness {
			best, bestLikeness = k, l
		}
	}
	return best
}

// Hint tells which known name a mistyped one probably means or, if none is similar, which names there are.
func Hint(typed string, known []string) string {
	const few = 12
	near := Name(typed, known)
	switch more := len(known) - few; {
	case near != "":
		return "did you mean " + strconv.Quote(near) + "?"
	case len(known) == 0:
		return "there are none"
	case len(known) == 1:
		return "there is only " + known[0]
	case more > 0:
		return fmt.Sprintf("there are %s and %d more", strings.Join(known[:few], ", "), more)
	}
	return "there are " + strings.Join(known, ", ")
}

// Likeness returns the similarity of two texts: 1 if they are equal, 0 if no letter stays. It is the share of letters
// that the Levenshtein distance leaves.
func Likeness(a, b string) float64 {
	length := max(utf8.RuneCountInString(a), utf8.RuneCountInString(b))
	if length == 0 {
		return 1
	}
	return 1 - float64(fuzzy.LevenshteinDistance(a, b))/float64(length)
}
