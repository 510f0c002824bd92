// Package capture is the syntax of captures in patterns. It is separate, though small, because plan and watch/pattern
// both use it and neither may import the other.
package capture

import (
	"omnivigil/internal/text/lazyregexp"
)

// Expression matches {name}, which captures one path element, and {name...}, which captures any number of them. Its
// groups are the name and the dots. Braces with a comma in them are alternatives, not captures.
var Expression = lazyregexp.New(`\{([A-Za-z][A-Za-z0-9_]*)(\.\.\.)?\}`)
