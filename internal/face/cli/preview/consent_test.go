package preview

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestNothingHides checks that a long line is shown completely, in numbered rows, and that a run of blanks cannot
// push anything out of view.
func TestNothingHides(t *testing.T) {
	hidden := shortBlanks("touch a # " + strings.Repeat(" ", 2000) + "; touch b")
	assert.Equal(t, "touch a # [2001 blanks] ; touch b", strings.ReplaceAll(hidden, "#  [", "# ["))
	rows := Rows([]string{strings.Repeat("x", 205), "short"}, 80)
	assert.Len(t, rows, 4)
	for _, row := range rows {
		assert.LessOrEqual(t, len(row), 80)
	}
	assert.Equal(t, 205, strings.Count(strings.Join(rows, ""), "x"))
}
