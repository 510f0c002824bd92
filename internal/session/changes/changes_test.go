package changes

import (
	"context"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/api"
	"omnivigil/internal/api/changes"
	"omnivigil/internal/output/redact"
	"omnivigil/internal/plan"
	"omnivigil/internal/store/contents"
	"omnivigil/internal/store/history"
	"omnivigil/internal/text/escape"
)

// pier is a project on disk, and the session as a tracker sees it.
type pier struct {
	t       *testing.T
	plan    *plan.Plan
	files   []string
	ripples []*api.Ripple
	kept    []history.Change
	hidden  *redact.Mask
	stopped chan struct{}
	tracker *Tracker
}

func newPier(t *testing.T) *pier {
	root := t.TempDir()
	p := &pier{
		t: t, stopped: make(chan struct{}), hidden: (*redact.Mask)(nil).With([]string{"hunter-two-2"}),
		plan: &plan.Plan{
			Root: root, KeepChanges: true, Secret: []string{"*_TOKEN"}, EnvFiles: []string{"settings.env"},
			Units: []*plan.Unit{{Name: "fares"}},
		},
	}
	p.tracker = New(p, contents.In(t.TempDir(), contents.Limits{}), root)
	return p
}

func (p *pier) Subscribe(context.Context, int64, func(api.Fact) error) error {
	return errors.New("not used")
}
func (p *pier) Snapshot(context.Context) (*api.Snapshot, error) {
	return &api.Snapshot{Ripples: p.ripples, Verdict: api.Verdict{Word: api.VerdictCurrent}}, nil
}
func (p *pier) Changed() (<-chan struct{}, func())     { return nil, func() {} }
func (p *pier) Plan() *plan.Plan                       { return p.plan }
func (p *pier) Hidden() *redact.Mask                   { return p.hidden }
func (p *pier) Clean(text string) string               { return escape.Lines(p.hidden.String(text)) }
func (p *pier) Affecting(string) []string              { return p.files }
func (p *pier) Sum(string) (sum contents.Sum, is bool) { return sum, false }
func (p *pier) Stopped() <-chan struct{}               { return p.stopped }
func (p *pier) KeepChange(c history.Change)            { p.kept = append(p.kept, c) }

// write writes a file; empty: it is removed.
func (p *pier) write(name, text string) {
	file := filepath.Join(p.plan.Root, name)
	if text == "" {
		require.NoError(p.t, os.Remove(file))
		return
	}
	require.NoError(p.t, os.WriteFile(file, []byte(text), 0o644))
	p.files = append(p.files, file)
}

// save writes files, as one ripple, and returns what that has changed.
func (p *pier) save(texts map[string]string) changes.Changes {
	r := &api.Ripple{ID: len(p.ripples) + 1, Since: time.Now()}
	for name, text := range texts {
		p.write(name, text)
		r.Paths = append(r.Paths, name)
	}
	p.ripples = append(p.ripples, r)
	p.tracker.opened(api.Fact{Kind: factRippleOpened, Ripple: r.ID})
	c, err := p.tracker.Of(r.ID)
	require.NoError(p.t, err)
	return c
}

func TestChanges(t *testing.T) {
	p := newPier(t)
	p.write("fares.csv", "marram 3\nskerry 5\n")
	p.write("key.txt", "old\n")
	p.write("old.txt", "old\r\nlines\r\n")
	p.tracker.readAll(p.plan)
	p.tracker.reading = p.plan
	began := time.Now()

	first := p.save(map[string]string{"fares.csv": "marram 4\nskerry 5\n", "new.txt": "new\n"})
	require.Len(t, first.Files, 2)
	fares := first.Files[0]
	assert.Equal(t, [2]int{1, 1}, [2]int{fares.Added, fares.Removed})
	assert.Equal(t, changes.Changed, fares.Kind)
	assert.Equal(t, changes.Added, first.Files[1].Kind)

	for name, test := range map[string]struct{ text, note string }{
		"settings.env": {"A=1\n", "may have secrets"}, ".env.local": {"A=1\n", "may have secrets"},
		"API_TOKEN": {"x\n", "may have secrets"}, "api_token.json": {"{}\n", "may have secrets"},
		"id.pem": {"x\n", "may have secrets"}, "a.out": {"\x7fELF\x00", "not text"},
		"large.sql": {strings.Repeat("x", 1<<20+1), "more than 1 MB"},
	} {
		c := p.save(map[string]string{name: test.text})
		require.Len(t, c.Files, 1, name)
		assert.Contains(t, c.Files[0].Note, test.note, name)
		assert.Empty(t, c.Files[0].Hunks)
	}
	hidden := p.save(map[string]string{"key.txt": "hunter-two-2\n"})
	data, err := json.Marshal(hidden)
	require.NoError(t, err)
	assert.NotContains(t, string(data), "hunter")
	require.Len(t, hidden.Files[0].Hunks, 1)

	ended := p.save(map[string]string{"old.txt": "old\nlines\n"})
	assert.Equal(t, "only line endings changed", ended.Files[0].Note)
	removed := p.save(map[string]string{"old.txt": ""})
	assert.Equal(t, changes.Removed, removed.Files[0].Kind)
	assert.Equal(t, "lines", removed.Files[0].Hunks[0].Lines[1].Text)

	back := p.save(map[string]string{"fares.csv": "marram 3\nskerry 5\n"})
	assert.Equal(t, 1, back.Reverts)
	again := p.save(map[string]string{"fares.csv": "marram 3\nskerry 6\n", "new.txt": "newer\n"})
	assert.Zero(t, again.Reverts)

	net := p.tracker.Since(began, []string{"fares.csv", "new.txt", "nothing.txt"})
	require.Len(t, net.Files, 2)
	assert.Equal(t, changes.Added, net.Files[1].Kind, "it did not exist then")
	assert.Equal(t, "skerry 6", net.Files[0].Hunks[0].Lines[2].Text)
	assert.Empty(t, p.tracker.Since(time.Now(), []string{"fares.csv"}).Files)

	// The history has the same.
	read := func(_ context.Context, ripple int) (of []history.Change, err error) {
		for _, c := range p.kept {
			if c.Ripple == ripple {
				of = append(of, c)
			}
		}
		return of, nil
	}
	earlier, err := Earlier(t.Context(), p.tracker.store, read, 1)
	require.NoError(t, err)
	assert.Equal(t, first, earlier)
	_, err = Earlier(t.Context(), p.tracker.store, read, 99)
	require.ErrorContains(t, err, "no change of ripple 99 is kept")
	_, err = p.tracker.Of(99)
	require.ErrorContains(t, err, "no change of ripple 99 is kept")

	// Without the contents, the files are still named.
	_, err = p.tracker.store.Clear()
	require.NoError(t, err)
	earlier, err = Earlier(t.Context(), p.tracker.store, read, 1)
	require.NoError(t, err)
	assert.Equal(t, "its contents are no longer kept", earlier.Files[0].Note)
}

// TestNothingIsKept changes a file while changes are not to be kept.
func TestNothingIsKept(t *testing.T) {
	p := newPier(t)
	p.plan.KeepChanges = false
	p.write("fares.csv", "1\n")
	p.ripples = []*api.Ripple{{ID: 1, Paths: []string{"fares.csv"}}}
	p.tracker.opened(api.Fact{Kind: factRippleOpened, Ripple: 1})
	_, err := p.tracker.Of(1)
	require.Error(t, err)
	u, err := p.tracker.store.Usage()
	require.NoError(t, err)
	assert.Zero(t, u.Contents)
}
