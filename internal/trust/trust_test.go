package trust

import (
	"os"
	"path/filepath"
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

// TestEveryCommandCounts changes each thing that decides what is executed.
func TestEveryCommandCounts(t *testing.T) {
	s := In(filepath.Join(t.TempDir(), "state"))
	has, err := s.Has(project())
	require.NoError(t, err)
	assert.False(t, has, "nothing is agreed to at first")
	require.NoError(t, s.Add(project()))
	has, err = s.Has(project())
	require.NoError(t, err)
	assert.True(t, has)

	other := plan.Command{Shell: "something else"}
	for name, change := range map[string]func(u *plan.Unit){
		"run":       func(u *plan.Unit) { u.Run = other },
		"folder":    func(u *plan.Unit) { u.Dir = "/" },
		"variables": func(u *plan.Unit) { u.OwnEnv = []plan.Variable{{Name: "PATH", Value: "."}} },
		"setup":     func(u *plan.Unit) { u.Setup[0].Run = other },
		"prelude":   func(u *plan.Unit) { u.Prelude = []plan.Step{{Run: other}} },
		"ready":     func(u *plan.Unit) { u.Ready.Run = &other },
		"stop":      func(u *plan.Unit) { u.Stop.Run = &other },
		"reaction":  func(u *plan.Unit) { u.Reactions = []plan.Reaction{{Run: &other}} },
	} {
		t.Run(name, func(t *testing.T) {
			p := project()
			change(p.Units[0])
			has, err := s.Has(p)
			require.NoError(t, err)
			assert.False(t, has)
		})
	}
	moved := project()
	moved.File = "/elsewhere/omnivigil.toml"
	has, err = s.Has(moved)
	require.NoError(t, err)
	assert.False(t, has, "agreed to for one folder only")
}

func TestBrokenRecordIsToldNotOverwritten(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "trust.json"), []byte("{"), 0o600))
	_, err := In(dir).Has(project())
	assert.ErrorContains(t, err, "trust.json")
	assert.Error(t, In(dir).Add(project()))
}
