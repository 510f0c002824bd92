package impact

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/plan"
	"omnivigil/internal/watch"
	"omnivigil/internal/watch/pattern"
)

// TestMissing finds missing files that a command names by its captures, and takes no other word for a path.
func TestMissing(t *testing.T) {
	root := t.TempDir()
	for _, file := range []string{"internal/fares/a.go", "spec/models/berth_spec.rb"} {
		require.NoError(t, os.MkdirAll(filepath.Join(root, filepath.Dir(file)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(root, file), nil, 0o644))
	}
	p := &plan.Plan{Root: root}
	u := &plan.Unit{Name: "tests", Dir: root}
	for _, test := range []struct{ when, run, path, what, missing string }{
		{"internal/{area}/*.go", "go test ./internal/{area}", "internal/fares/a.go", "written", ""},
		{"internal/{area}/*.go", "go test ./internal/{area}/...", "internal/gone/a.go", "removed", "./internal/gone"},
		{"internal/{area}/*.go", `go test "./internal/{area}"`, "internal/gone/a.go", "removed", "./internal/gone"},
		{"internal/{area}/*.go", "go test ferries.example/internal/{area}", "internal/fares/a.go", "written", ""},
		{"models/{name}.rb", "rspec spec/models/{name}_spec.rb", "models/berth.rb", "written", ""},
		{"models/{name}.rb", "rspec spec/models/{name}_spec.rb", "models/quay.rb", "written",
			"spec/models/quay_spec.rb"},
		{"models/{name}.rb", "rspec -e {name}", "models/quay.rb", "written", ""},
		{"{file...}", "pytest {file}", "tests/gone.py", "removed", "tests/gone.py"},
		{"{area}/{file}", "pytest --file={area}/{file}", "tests/gone.py", "removed", ""},
	} {
		when := plan.Pattern{Text: test.when}
		u.Reactions = []plan.Reaction{{When: when, Run: &plan.Command{Shell: test.run}}}
		captures := map[string]string{}
		for _, a := range watch.Explain(root, []pattern.Interest{{Key: "tests",
			Rules: []pattern.Rule{{Pattern: test.when}}}}, test.path) {
			captures = a.Captures
		}
		require.NotEmpty(t, captures, test.when)
		h := Hit(
			p,
			u,
			watch.Hit{Key: "tests", Path: test.path, What: test.what, Pattern: test.when, Captures: captures},
		)
		assert.Equal(t, test.missing, h.Missing, "%s of %s", test.run, test.path)
	}
}
