package ahead

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestLooks takes first looks at a tree as it is grown, at more directories than are looked at ahead.
func TestLooks(t *testing.T) {
	const wide, deep = 3 * maxAhead, 3
	root := t.TempDir()
	due := func(dir string) (all []*Look) {
		for i := range wide {
			at := filepath.Join(dir, "nothing")
			if i%100 == 0 {
				at = filepath.Join(dir, fmt.Sprint(i))
				require.NoError(t, os.MkdirAll(at, 0o755))
			}
			all = append(all, At(at, nil))
		}
		return all
	}
	var a Looks
	var take func(dir string, depth int)
	took := 0
	take = func(dir string, depth int) {
		all := due(dir)
		a.Begin(all)
		for i, g := range all {
			a.Take(g)
			took++
			if i%100 > 0 {
				assert.ErrorIs(t, g.Err, os.ErrNotExist)
				continue
			}
			assert.NoError(t, g.Err)
			assert.NotZero(t, g.ID)
			a.mu.Lock()
			assert.LessOrEqual(t, a.ahead, maxAhead)
			a.mu.Unlock()
			if i == 300 && depth < deep {
				take(g.path, depth+1)
			}
		}
	}
	take(root, 1)
	assert.Equal(t, deep*wide, took)
	assert.Empty(t, a.due)
	assert.Zero(t, a.ahead)
}
