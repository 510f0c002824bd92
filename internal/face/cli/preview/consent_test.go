package preview

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestNothingHides shows all of a long line, in rows that are counted, and no run of blanks that pushes
// something out of view.
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
