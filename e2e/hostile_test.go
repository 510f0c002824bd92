package e2e

import (
	"crypto/ed25519"
	"encoding/json"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/store/contents"
	"omnivigil/internal/store/share"
	"omnivigil/internal/store/tree"
)

// add stores a content, and returns it.
func (q *quay) add(data []byte) contents.Content {
	store := contents.In(q.TempDir(), contents.Limits{})
	c, err := store.Add(data)
	require.NoError(q, err)
	from, _, err := store.Packed(c)
	require.NoError(q, err)
	defer from.Close()
	packed, err := io.ReadAll(from)
	require.NoError(q, err)
	sum := c.Sum.String()
	file := filepath.Join(q.dir, "www/harbour/contents", sum[:2], sum[2:]+".zst")
	require.NoError(q, os.MkdirAll(filepath.Dir(file), 0o755))
	require.NoError(q, os.WriteFile(file, packed, 0o644))
	return c
}

// TestHostileShare changes what a share has. Nothing outside of the task's outputs is written, nothing acts on a
// terminal, and the task runs by itself unless its result is good.
func TestHostileShare(t *testing.T) {
	t.Parallel()
	q := openQuay(t)
	const settings = `[project]
name = "harbour"
secret = ["*_TOKEN"]
share = { url = "URL" }
[task.fares]
run = "echo + >> tasks.log; mkdir -p build; cat fares.csv > build/fares; echo made"
watch = ["fares.csv"]
outputs = ["build/**"]
reuse = true
`
	open := func(t *testing.T) *teammate {
		u := &teammate{workspace: &workspace{t: t, dir: t.TempDir(), state: t.TempDir()}, config: t.TempDir()}
		u.env = []string{"XDG_STATE_HOME=" + u.state, "XDG_CONFIG_HOME=" + u.config, "HOME=" + u.config,
			"TIDE_TOKEN=flood-at-noon"}
		for name, text := range map[string]string{
			"omnivigil.toml": strings.Replace(settings, "URL", q.url, 1), "fares.csv": "low", "hook": "own",
		} {
			require.NoError(t, os.WriteFile(filepath.Join(u.dir, name), []byte(text), 0o644))
		}
		return u
	}
	ci := open(t)
	public := strings.TrimSpace(ci.does("share", "create"))
	public = public[strings.LastIndex(public, "\n")+1:]
	secret, err := os.ReadFile(filepath.Join(ci.config, "omnivigil/share-key.pem"))
	require.NoError(t, err)
	key, err := share.ParsePrivate(secret)
	require.NoError(t, err)
	ci.env = append(ci.env, "OMNIVIGIL_SHARE_KEY="+string(secret))
	ci.does("once", "--trust", "fares")
	found, err := filepath.Glob(filepath.Join(q.dir, "www/harbour/results/*/*"))
	require.NoError(t, err)
	require.Len(t, found, 1)
	honest, err := os.ReadFile(found[0])
	require.NoError(t, err)
	var envelope struct{ Payload []byte }
	require.NoError(t, json.Unmarshal(honest, &envelope))
	other := ed25519.NewKeyFromSeed(make([]byte, ed25519.SeedSize))
	for name, test := range map[string]struct {
		change func(r *share.Result)
		by     ed25519.PrivateKey
		used   bool
		says   string
	}{
		"honest":      {used: true},
		"another key": {by: other, says: "no key that you trust"},
		"above the project": {change: func(r *share.Result) {
			r.Tree[0].Path = "build/../../hook"
		}, says: "not a path within"},
		"a file of the project": {change: func(r *share.Result) {
			r.Tree[0].Path = "hook"
		}, says: "no output of fares"},
		"a link that leaves": {change: func(r *share.Result) {
			r.Tree = append(r.Tree, tree.Entry{Path: "build/out", Kind: tree.Link, Target: "../../.."})
		}, says: "outside of the project"},
		"a program with rights": {change: func(r *share.Result) {
			r.Tree[0].Mode = os.ModeSetuid | 0o755
		}, says: "more than permissions"},
		"too large": {change: func(r *share.Result) {
			r.Tree[0].Content.Size = 1 << 62
		}, says: "too large"},
		"another task": {change: func(r *share.Result) { r.Unit = "rates" }, says: "another task"},
		"other tests": {change: func(r *share.Result) {
			r.Told = []byte(strings.Repeat("[", 10_000))
		}, used: true},
		"the end of time": {change: func(r *share.Result) {
			r.At, r.Took = time.Date(9999, 1, 1, 0, 0, 0, 0, time.UTC), 1<<62
		}, used: true},
		"lines that act": {change: func(r *share.Result) {
			c := q.add([]byte(`["\u001b]0;hook\u0007\u001b[2Jmade", "tide flood-at-noon", "\u001b[?1049h"]`))
			r.Lines = &c
		}, used: true, says: "******"},
		"a name that acts": {change: func(r *share.Result) { r.Tree[0].Path = "build/\x1b]0;hook\a" }, used: true},
	} {
		t.Run(name, func(t *testing.T) {
			var r share.Result
			require.NoError(t, json.Unmarshal(envelope.Payload, &r))
			if test.change != nil {
				test.change(&r)
			}
			if test.by == nil {
				test.by = key
			}
			data, err := share.Seal(r, test.by)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(found[0], data, 0o644))
			var u *teammate
			out := ""
			assert.True(t, holds(patience, func() bool { // a busy machine is slower than the task
				u = open(t)
				u.does("share", "trust", "ci", public)
				out = u.does("once", "--trust", "fares")
				return test.used == (u.runs() == 0) && strings.Contains(out, test.says)
			}), out)
			assert.NotContains(t, out, "\x1b")
			assert.NotContains(t, out, "flood-at-noon")
			own, err := os.ReadFile(filepath.Join(u.dir, "hook"))
			require.NoError(t, err)
			assert.Equal(t, "own", string(own))
			assert.NoFileExists(t, filepath.Join(filepath.Dir(u.dir), "hook"))
		})
	}
}
