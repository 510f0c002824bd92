package draft

import (
	"slices"

	"omnivigil/internal/text/lazyregexp"
)

// interpolated matches the variables that a compose file takes from the environment: $NAME and ${NAME}, but not $$NAME
// (compose-spec, "Interpolation").
var interpolated = lazyregexp.New(`(?:^|[^$])\$\{?([A-Za-z_][A-Za-z0-9_]*)`)

// composeUses are the variables that a compose file takes from the environment; not nil.
func composeUses(text string) []string {
	names := []string{}
	for _, m := range interpolated.FindAllStringSubmatch(text, -1) {
		names = append(names, m[1])
	}
	slices.Sort(names)
	return slices.Compact(names)
}
