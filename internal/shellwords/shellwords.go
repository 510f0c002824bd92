// Package shellwords takes text apart into words as a POSIX shell does: by spaces, but for those
// in quotes or behind a backslash. Nothing else in a text means anything: no variables, no
// patterns, no pipes.
package shellwords

import (
	"errors"

	"github.com/google/shlex"
)

// ErrOpenQuote says that a quote has no end.
var ErrOpenQuote = errors.New("a quote is not closed")

// Split returns the words of a text.
func Split(text string) ([]string, error) {
	words, err := shlex.Split(text)
	if err != nil {
		return nil, ErrOpenQuote // the only error that there is
	}
	return words, nil
}
