package readers

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/plan"
	"omnivigil/internal/results/record"
)

// TestAssumed checks that a line without a severity never fails a run that exits 0, unless the settings say so.
func TestAssumed(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"main.go", "a.py", "x.js", "in.c"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), nil, 0o600))
	}
	for _, test := range []struct {
		line, pattern string
		fails         bool
	}{
		{line: "main.go:5:1: building"},
		{line: "./main.go:7:6: can inline add"},
		{line: "in.c:9:3:   required from here"},
		{line: "a.py:1:8: F841 local variable 'x' is assigned to but never used"},
		{line: "a.py:3:0: C0114: Missing module docstring (missing-module-docstring)"},
		{line: "a.py:3:0: E0602: Undefined variable 'y' (undefined-variable)"},
		{line: "x.js:1:5: 'a' is never used. [Warning/no-var]"},
		{line: "x.js:1:5: 'a' is never used. [Error/no-undef]", fails: true},
		{line: "in.c:3:4: error: expected ';'", fails: true},
		{line: "in.c:3:4: warning: unused variable"},
		{line: "in.c|3|low", pattern: `^(?P<file>\S+)\|(?P<line>\d+)\|(?P<message>.*)$`, fails: true},
	} {
		t.Run(test.line, func(t *testing.T) {
			r := record.New()
			r.Begin(record.Run{Number: 1, At: midday})
			reader := New(Options{Dir: dir, Root: dir, Findings: plan.Findings{Pattern: test.pattern}}, r)
			reader.Read(test.line)
			reader.End(true)
			assert.Equal(t, test.fails, r.Sum().ToldErrors)
		})
	}
}
