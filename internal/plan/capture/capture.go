// Package capture is the syntax of captures in patterns. It is a package of its own, though small, because plan and
// watch/pattern both use it and neither may import the other's reader.
package capture

import "regexp"

// Expression finds {name}, which takes one path element, and {name...}, which takes any
// number of them. Its groups are the name and the dots. Braces with a comma in them are
// choices, not captures.
var Expression = regexp.MustCompile(`\{([A-Za-z][A-Za-z0-9_]*)(\.\.\.)?\}`)
