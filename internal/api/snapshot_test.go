package api

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// FuzzChange applies anything that a server may send.
func FuzzChange(f *testing.F) {
	f.Add(
		[]byte(`{"units":[{"name":"a"}],"order":["a","b"],"lives":{"a":{"from":"2030-05-04T12:04:31Z","marks":[]}}}`),
		[]byte(`{"ripples":[{"id":3}],"oldest":2,"saves":[{}],"uses":{"a":{}}}`),
	)
	f.Add([]byte(`{"units":[null],"ripples":[null],"order":["a"]}`), []byte(`{}`))
	f.Fuzz(func(_ *testing.T, first, second []byte) {
		snap := &Snapshot{}
		for _, data := range [][]byte{first, second} {
			u := &Update{}
			if json.Unmarshal(data, u) != nil {
				return
			}
			snap = snap.Apply(u)
		}
		snap.Ripple(3)
		for _, u := range snap.Units {
			snap.WhyOf(u)
		}
	})
}

func TestSnapshotsAreKept(t *testing.T) {
	dir := t.TempDir()
	_, err := KeptSnapshot(dir)
	assert.ErrorContains(t, err, "read how the project was")
	for n := range int64(2) {
		require.NoError(t, KeepSnapshot(dir, &Snapshot{Number: n, Units: []*Unit{{Name: "tides", State: Ready}}}))
	}
	s, err := KeptSnapshot(dir)
	require.NoError(t, err)
	assert.EqualValues(t, 1, s.Number)
	assert.Equal(t, Ready, s.Units[0].State)
}
