// Package capture says how the captures of patterns are written.
package capture

import "regexp"

// Expression finds {name}, which takes one path element, and {name...}, which takes any
// number of them. Its groups are the name and the dots. Braces with a comma in them are
// choices, not captures.
var Expression = regexp.MustCompile(`\{([A-Za-z][A-Za-z0-9_]*)(\.\.\.)?\}`)
