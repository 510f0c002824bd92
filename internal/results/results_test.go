package results

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"omnivigil/internal/text/location"
)

// TestText has the second line of a message say what the first is about.
func TestText(t *testing.T) {
	for want, notes := range map[string][]string{
		"a.java:3:5: cannot find":                 {"note: declared here"},
		"a.java:3:5: cannot find: variable tide":  {"symbol:   variable tide", "location: class Berth"},
		"a.java:3:5: cannot find: expected `u32`": {Label + "expected `u32`", "note: declared here"},
		"a.java:3:5: cannot find: method nope()":  {"symbol: method nope()"},
	} {
		at := location.Location{File: "a.java", Line: 3, Column: 5}
		assert.Equal(t, want, Finding{Location: at, Message: "cannot find", Notes: notes}.Text())
	}
}
