package results

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"omnivigil/internal/api"
	"omnivigil/internal/plan"
)

// FuzzNarrow requires that a test's name stays one word and matches the expression it is quoted in.
func FuzzNarrow(f *testing.F) {
	f.Add("TestBerths/low_tide", "TestA|B")
	f.Add("$(rm -rf .); 'x' \"y\"", "a b")
	f.Fuzz(func(t *testing.T, a, b string) {
		if a == "" || b == "" {
			return
		}
		u := &plan.Unit{Name: "harbour", Run: plan.Command{Shell: "make test"}, Narrow: &plan.Narrow{Add: "--only {}"}}
		words, err := Words(u, []api.CaseName{{Name: a}, {Name: b}})
		require.NoError(t, err)
		for _, name := range []string{a, b} {
			require.Contains(t, words, name)
		}
	})
}

func TestWords(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "tests"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "tests", "test_berths.py"), nil, 0o600))
	for _, test := range []struct {
		command string
		narrow  *plan.Narrow
		chosen  []api.CaseName
		want    []string
	}{
		{"go test ./...", nil, []api.CaseName{{Suite: "ferries/berths", Name: "TestTide"}},
			[]string{"-run", "^(TestTide)$"}},
		{"go test ./...", nil, []api.CaseName{{Suite: "a", Name: "TestB/low_(x)"}, {Suite: "a", Name: "TestC"},
			{Suite: "b", Name: "TestC"}}, []string{"-run", `^(TestB)$/^(low_\(x\))$|^(TestC)$`}},
		{"node --test", nil, []api.CaseName{{Suite: "", Name: "berths/low tide"}},
			[]string{"--test-name-pattern", "^(low tide)$"}},
		{"python3 -m pytest", nil, []api.CaseName{{Suite: "tests.test_berths.TestTide", Name: "test_low[1]"}},
			[]string{"tests/test_berths.py::TestTide::test_low[1]"}},
		{"pytest -q", nil, []api.CaseName{{Suite: "tests/test_berths.py", Name: "TestTide::test_low[1]"}},
			[]string{"tests/test_berths.py::TestTide::test_low[1]"}},
		{"cargo test", nil, []api.CaseName{{Suite: "src/lib.rs", Name: "tests::low"}},
			[]string{"--", "--exact", "tests::low"}},
		{"prove t", nil, []api.CaseName{{Suite: "t/a.t", Name: "low"}, {Suite: "t/a.t", Name: "high"}},
			[]string{"t/a.t"}},
		{"make test", &plan.Narrow{Add: "ONLY={}", Join: ","},
			[]api.CaseName{{Suite: "", Name: "a"}, {Suite: "", Name: "b"}}, []string{"ONLY=a,b"}},
		{"go test ./...", &plan.Narrow{First: "-failfast"}, []api.CaseName{{Suite: "", Name: "TestA"}},
			[]string{"-run", "^(TestA)$"}},
	} {
		u := &plan.Unit{Name: "harbour", Dir: dir, Run: plan.Command{Shell: test.command}, Narrow: test.narrow}
		words, err := Words(u, test.chosen)
		require.NoError(t, err)
		require.Equal(t, test.want, words)
	}
	_, err := Words(&plan.Unit{Name: "harbour", Run: plan.Command{Shell: "make test"}},
		[]api.CaseName{{Suite: "", Name: "a"}})
	require.ErrorContains(t, err, "for harbour: how its command takes the names")
	u := &plan.Unit{Narrow: &plan.Narrow{First: "--first {}"}}
	require.Equal(t, []string{"--first", "a", "b"},
		First(u, []api.CaseName{{Suite: "", Name: "a"}, {Suite: "", Name: "b"}}))
	require.Nil(t, First(u, nil))
}
