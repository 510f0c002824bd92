// Package shellwords splits text into words at blanks that are not quoted, by the quoting rules of a
// POSIX shell (POSIX.1-2024, XCU 2.2): a backslash keeps the next character, single quotes keep
// everything, double quotes keep everything except a backslash before ", \, $, ` or a line break. Nothing
// else in a text has a meaning: it has no comments, expansion, patterns or operators.
//
// format.Typed does the opposite. The package is small and apart because the settings, narrowing and the screen all
// use it.
package shellwords

import (
	"errors"
	"strings"
)

// ErrOpenQuote: a quote is not closed, or a backslash is the last character.
var ErrOpenQuote = errors.New("a quote is not closed")

// Split returns the words of a text.
func Split(text string) ([]string, error) {
	var words []string
	var word strings.Builder
	in, quote, escaped := false, byte(0), false
	for i := range len(text) { // by bytes: a text may be in any encoding that contains ASCII
		c := text[i]
		switch {
		case escaped:
			escaped = false
			if quote == '"' && strings.IndexByte("\"\\$`\n", c) < 0 {
				word.WriteByte('\\')
			}
			if c != '\n' { // a line that is continued
				word.WriteByte(c)
			}
		case c == '\\' && quote != '\'':
			escaped, in = true, true
		case c == quote:
			quote = 0
		case quote != 0:
			word.WriteByte(c)
		case c == '\'' || c == '"':
			quote, in = c, true
		case c == ' ' || c == '\t' || c == '\n' || c == '\r':
			if in {
				words = append(words, word.String())
				word.Reset()
			}
			in = false
		default:
			in = true
			word.WriteByte(c)
		}
	}
	if quote != 0 || escaped {
		return nil, ErrOpenQuote
	}
	if in {
		words = append(words, word.String())
	}
	return words, nil
}
