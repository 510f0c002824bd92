package api

import (
	"encoding/json"
	"testing"
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
