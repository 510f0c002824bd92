package readers

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/rogpeppe/go-internal/txtar"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestTable goes through the tables of docs/results.md: what is said to be read has recordings in which something is
// read, what is not read has none, and every recording is in a table.
func TestTable(t *testing.T) {
	text, err := os.ReadFile("../../../docs/results.md")
	require.NoError(t, err)
	named := map[string]bool{}
	row := regexp.MustCompile(`(?m)^\| ([^|]+) \| [^|]*\| (\w+) \| ([^|]*)\| ([^|]*)\|$`)
	for _, row := range row.FindAllStringSubmatch(string(text), -1) {
		tool, how, pages, missing := row[1], row[2], strings.Split(strings.TrimSpace(row[3]), ", "), strings.TrimSpace(row[4])
		if tool == "Tool" || tool == "Runner" {
			continue
		}
		assert.Contains(t, []string{"fully", "partly", "not"}, how, tool)
		if how == "not" {
			assert.Equal(t, []string{""}, pages, tool)
			assert.NotEmpty(t, missing, "%s: what else works?", tool)
			continue
		}
		assert.True(t, how == "fully" || missing != "", "%s: what is missing?", tool)
		for _, page := range pages {
			named[page] = true
			archive, err := txtar.ParseFile(filepath.Join("testdata/golden", page+".txtar"))
			require.NoError(t, err, tool)
			want := (&golden{Archive: archive}).part("want")
			assert.Regexp(t, `(?m)^(error|warning|note|passed|failed) `, want, "%s: nothing is read in %s", tool, page)
		}
	}
	recorded, err := filepath.Glob("testdata/golden/*.txtar")
	require.NoError(t, err)
	for _, file := range recorded {
		assert.True(t, named[strings.TrimSuffix(filepath.Base(file), ".txtar")], "%s is in no table", file)
	}
}
