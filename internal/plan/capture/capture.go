// Package capture is the part of the syntax of patterns that is our own: captures. It is separate, though small,
// because plan and watch/pattern both use it and neither may import the other.
package capture

import (
	"strings"

	"omnivigil/internal/text/lazyregexp"
)

// Literal returns the pattern that matches only this path.
func Literal(path string) string { return escaper.Replace(path) }

var escaper = strings.NewReplacer(`\`, `\\`, `*`, `\*`, `?`, `\?`, `[`, `\[`, `]`, `\]`, `{`, `\{`, `}`, `\}`)

// Expression matches {name}, which captures one path element, and {name...}, which captures any number of them. Its
// groups are the name and the dots. Braces with a comma in them are alternatives, not captures.
var Expression = lazyregexp.New(`\{([A-Za-z][A-Za-z0-9_]*)(\.\.\.)?\}`)
