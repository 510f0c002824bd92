package consent

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/plan"
)

func project() *plan.Plan {
	return &plan.Plan{File: "/ferries/omnivigil.toml", Units: []*plan.Unit{{
		Name: "tides", Run: plan.Command{Shell: "tides"}, Dir: "/ferries",
		Setup: []plan.Step{{Run: plan.Command{Shell: "make"}}},
	}}}
}

// TestEverythingCounts changes each setting that decides what is executed or opened.
func TestEverythingCounts(t *testing.T) {
	s := In(filepath.Join(t.TempDir(), "state"))
	ask := func(p *plan.Plan) Answer {
		a, err := s.Ask(p)
		require.NoError(t, err)
		return a
	}
	assert.False(t, ask(project()).Agreed(), "nothing is agreed to at first")
	require.NoError(t, s.Add(project()))
	assert.True(t, ask(project()).Agreed())

	other := plan.Command{Shell: "something else"}
	for want, change := range map[string]func(u *plan.Unit){
		"tides runs: something else": func(u *plan.Unit) { u.Run = other },
		"tides is: a task":           func(u *plan.Unit) { u.Kind = plan.Task },
		"tides in: /":                func(u *plan.Unit) { u.Dir = "/" },
		"tides with: PATH=.": func(u *plan.Unit) {
			u.OwnEnv = []plan.Variable{{Name: "PATH",
				Value: "."}}
		},
		"tides reads variables from: .env":            func(u *plan.Unit) { u.EnvFiles = []string{".env"} },
		"tides setup: something else":                 func(u *plan.Unit) { u.Setup[0].Run = other },
		"tides prelude: something else":               func(u *plan.Unit) { u.Prelude = []plan.Step{{Run: other}} },
		"tides ready when: something else":            func(u *plan.Unit) { u.Ready.Run = &other },
		"tides ready when: http://elsewhere/ answers": func(u *plan.Unit) { u.Ready.HTTP = "http://elsewhere/" },
		"tides stopped by: something else":            func(u *plan.Unit) { u.Stop.Run = &other },
		"tides on *.go runs: something else": func(u *plan.Unit) {
			u.Reactions = []plan.Reaction{{When: plan.Pattern{Text: "*.go"}, Run: &other}}
		},
		"tides on *.go is sent: HUP": func(u *plan.Unit) {
			u.Reactions = []plan.Reaction{{When: plan.Pattern{Text: "*.go"}, Do: plan.SendSignal, Signal: "HUP"}}
		},
		"tides opens in the browser: http://localhost:1/": func(u *plan.Unit) {
			u.Endpoint = plan.Endpoint{Port: 1,
				WhenUp: "browse"}
		},
	} {
		t.Run(want, func(t *testing.T) {
			p := project()
			change(p.Units[0])
			a := ask(p)
			assert.False(t, a.Agreed())
			assert.True(t, slices.ContainsFunc(a.New, func(i Item) bool { return i.String() == want }))
			if !strings.Contains(want, " is: ") {
				assert.Contains(t, News(project(), p), want)
			}
		})
	}
	moved := project()
	moved.File = "/elsewhere/omnivigil.toml"
	assert.False(t, ask(moved).Agreed(), "agreed to for one directory only")
}

// TestSameAgreementIsNotWritten replaces the file only when the agreement has changed.
func TestSameAgreementIsNotWritten(t *testing.T) {
	s := In(filepath.Join(t.TempDir(), "state"))
	file := func(p *plan.Plan) os.FileInfo {
		require.NoError(t, s.Add(p))
		info, err := os.Stat(s.of(p.File))
		require.NoError(t, err)
		return info
	}
	first, changed := file(project()), project()
	changed.Units[0].Dir = "/"
	assert.True(t, os.SameFile(first, file(project())))
	assert.False(t, os.SameFile(first, file(changed)))
}

func TestBrokenRecordIsToldNotOverwritten(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "trust.json"), []byte("{"), 0o600))
	_, err := In(dir).Ask(project())
	assert.ErrorContains(t, err, "trust.json")
	assert.Error(t, In(dir).Add(project()))
}

// TestFailedWriteLeavesNothing checks that a failed write leaves no file.
func TestFailedWriteLeavesNothing(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "trust.json"), 0o700)) // in the place of the file
	require.NoError(t, os.WriteFile(filepath.Join(dir, "trust.json", "x"), nil, 0o600))
	assert.Error(t, In(dir).Add(project()))
	assert.NoFileExists(t, filepath.Join(dir, "trust.json.new"))
}
