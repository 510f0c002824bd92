package consent

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/plan"
)

// TestWhenAndHowCount checks that consent is asked for again when the same command would run at another time, in
// another order or with less masking.
func TestWhenAndHowCount(t *testing.T) {
	s := In(t.TempDir())
	require.NoError(t, s.Add(project()))
	for want, change := range map[string]func(p *plan.Plan){
		"hides values of: *_TOKEN":          func(p *plan.Plan) { p.Secret = []string{"*_TOKEN"} },
		"tides needs: db":                   func(p *plan.Plan) { p.Units[0].Needs = []string{"db"} },
		"tides starts only when asked: yes": func(p *plan.Plan) { p.Units[0].Manual = true },
		"tides is stopped by: SIGINT, killed after 5s": func(p *plan.Plan) {
			p.Units[0].Stop = plan.Stop{Signal: "INT",
				Grace: 5 * time.Second}
		},
		`tides narrows by: adding x, joined by ""`: func(p *plan.Plan) { p.Units[0].Narrow = &plan.Narrow{Add: "x"} },
		"tides watches: **": func(p *plan.Plan) {
			p.Units[0].Watch = []plan.Pattern{{Text: "**"}}
		},
	} {
		t.Run(want, func(t *testing.T) {
			p := project()
			change(p)
			a, err := s.Ask(p)
			require.NoError(t, err)
			require.NotEmpty(t, a.New)
			var texts []string
			for _, item := range a.New {
				texts = append(texts, item.String())
			}
			assert.Contains(t, texts, want)
		})
	}
	p := project()
	p.Units[0].Setup = nil
	a, err := s.Ask(p)
	require.NoError(t, err)
	assert.Contains(t, a.Gone, "tides setup: make")
	p.Units = p.Units[1:]
	a, err = s.Ask(p)
	require.NoError(t, err)
	assert.Equal(t, []string{"tides: a service"}, a.Gone)

	p = project()
	p.Secret, p.Units[0].Manual = []string{"*_TOKEN"}, true
	require.NoError(t, s.Add(p))
	a, err = s.Ask(project())
	require.NoError(t, err)
	assert.Empty(t, a.New)
	assert.Equal(t, []string{"hides values of: *_TOKEN", "tides starts only when asked: yes"}, a.Gone)
	assert.False(t, a.Agreed(), "less is hidden, and more starts by itself")
}

// TestEarlyAnswersCount checks that an answer given to an earlier version is valid until something changes.
func TestEarlyAnswersCount(t *testing.T) {
	dir := t.TempDir()
	p := project()
	p.Units[0].Needs = []string{"db"}
	var hashes []string
	for _, item := range Items(p) {
		if !item.late {
			hashes = append(hashes, item.hash())
		}
	}
	data, err := json.Marshal(map[string][]string{p.File: hashes})
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "trust.json"), data, 0o600))
	ask := func() bool {
		a, err := In(dir).Ask(p)
		require.NoError(t, err)
		return a.Agreed()
	}
	assert.True(t, ask())
	require.NoError(t, In(dir).Add(p))
	assert.True(t, ask())
	p.Units[0].Needs = []string{"another"}
	assert.False(t, ask())
}

// TestManyAtOnce loses no answer of projects that are started at the same time.
func TestManyAtOnce(t *testing.T) {
	s := In(t.TempDir())
	var starts sync.WaitGroup
	of := func(n int) *plan.Plan {
		p := project()
		p.File = fmt.Sprintf("/ferries/%d/omnivigil.toml", n)
		return p
	}
	for n := range 50 {
		starts.Go(func() { assert.NoError(t, s.Add(of(n))) })
	}
	starts.Wait()
	for n := range 50 {
		a, err := s.Ask(of(n))
		require.NoError(t, err)
		assert.True(t, a.Agreed())
	}
}
