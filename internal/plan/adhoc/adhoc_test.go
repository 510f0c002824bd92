package adhoc_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/plan"
	"omnivigil/internal/plan/adhoc"
	"omnivigil/internal/plan/settings"
)

// read makes a plan from a command, as a supervisor does.
func read(t testing.TB, c adhoc.Command) *plan.Plan {
	t.Helper()
	file := filepath.Join(t.TempDir(), "command.toml")
	require.NoError(t, os.WriteFile(file, []byte(c.Settings()), 0o600))
	p, err := settings.ReadFor(file, t.TempDir())
	require.NoError(t, err, c.Settings())
	return p
}

func TestSettings(t *testing.T) {
	p := read(t, adhoc.Command{
		Words: []string{"go", "test", "./..."}, Globs: []string{"**/*.go", "./go.mod"}, Ignore: []string{"out/**"},
		Debounce: time.Second, EnvFiles: []string{".env"}, Then: []string{"go vet ./...", "./test here"},
	})
	require.Len(t, p.Units, 3)
	test, vet, last := p.Units[0], p.Units[1], p.Units[2]
	assert.Equal(t, []string{"test", "vet", "test-2"}, []string{test.Name, vet.Name, last.Name})
	assert.Equal(t, plan.Task, test.Kind)
	assert.False(t, test.MayServe, "what something waits for has to end")
	assert.Equal(
		t,
		[]string{"**/*.go", "go.mod", "out/**"},
		[]string{test.Watch[0].Text, test.Watch[1].Text, test.Ignore[0].Text},
	)
	assert.Equal(t, time.Second, test.Debounce)
	assert.Equal(t, []string{".env"}, test.EnvFiles)
	assert.Equal(t, "go vet ./...", vet.Run.Shell)
	assert.Equal(t, [][]string{{"test"}, {"vet"}}, [][]string{vet.Follows, last.Follows})

	open := read(t, adhoc.Command{Words: []string{"sleep 3 && echo ok"}}).Units[0]
	assert.True(t, open.MayServe)
	assert.Equal(t, "sleep 3 && echo ok", open.Run.Shell, "a word that names no program is for the shell")
	assert.Equal(t, "**", open.Watch[0].Text)
	assert.Equal(
		t,
		[]string{"true"},
		read(t, adhoc.Command{Words: []string{"true"}}).Units[0].Run.Words,
		"and one that does is not",
	)
	assert.Equal(t, plan.Service, read(t, adhoc.Command{Words: []string{"true"}, Kind: adhoc.Service}).Units[0].Kind)
}

func TestReady(t *testing.T) {
	for ready, want := range map[string]plan.Ready{
		"4102":                         {Port: 4102, Within: plan.DefaultWithin},
		"http://127.0.0.1:4102/health": {HTTP: "http://127.0.0.1:4102/health", Within: plan.DefaultWithin},
		"2s":                           {After: 2 * time.Second},
		`listening on "[0-9]+"`:        {Line: `listening on "[0-9]+"`, Within: plan.DefaultWithin},
	} {
		u := read(t, adhoc.Command{Words: []string{"serve"}, Ready: ready}).Units[0]
		assert.Equal(t, plan.Service, u.Kind)
		assert.Equal(t, want, u.Ready)
	}
}

func TestNames(t *testing.T) {
	for name, words := range map[string][]string{
		"test":    {"go", "test", "./..."},
		"server":  {"node", "src/server.ts"},
		"dev":     {"npm", "run", "dev"},
		"pytest":  {"python3", "-m", "pytest"},
		"lamp":    {"./scripts/lamp.sh", "on"},
		"make":    {"make"},
		"go":      {"go", "-C", "tools", "run", "."},
		"command": {"…"},
		"html":    {"make html && ls"},
	} {
		assert.Equal(t, name, adhoc.Command{Words: words}.UnitName(), "%q", words)
	}
}

func TestCheck(t *testing.T) {
	for want, c := range map[string]adhoc.Command{
		"no command":     {},
		"not text":       {Words: []string{"echo", "\xff"}},
		"outside":        {Words: []string{"a"}, Globs: []string{"../sea/**"}},
		"--ready is for": {Words: []string{"a"}, Ready: "80", Kind: adhoc.Task},
		"--then waits":   {Words: []string{"a"}, Then: []string{"b"}, Kind: adhoc.Service},
	} {
		assert.ErrorContains(t, c.Check(), want)
	}
	assert.NoError(t, adhoc.Command{Words: []string{"a"}, Globs: []string{"..tides"}}.Check())
}

// FuzzWords checks that any words reach the program exactly as typed.
func FuzzWords(f *testing.F) {
	for _, s := range []string{"${HOME}", "$$x", "a\"b\\", "'''", "{area}", "\t\n\x01", "ünïcode", ""} {
		f.Add(s, s)
	}
	f.Fuzz(func(t *testing.T, a, b string) {
		c := adhoc.Command{Words: []string{"echo", a, b}, Name: "words"}
		if c.Check() != nil {
			return
		}
		assert.Equal(t, c.Words, read(t, c).Units[0].Run.Words)
	})
}
