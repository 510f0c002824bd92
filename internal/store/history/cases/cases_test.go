package cases

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"
)

// FuzzCases reads results in any form: they are damaged, or read as they are written.
func FuzzCases(f *testing.F) {
	for _, text := range []string{"[]", "[[1,0,1500],[2,1,7]]", "[[1,0", "[[1,2,3,4]]", "[1]", "[[[", "[[-1,0,0]]"} {
		f.Add([]byte(text))
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		read := 0
		err := Each(text, func(int64, int64, int64) { read++ })
		if err == nil && len(text) > 0 {
			assert.Equal(t, bytes.Count(text, []byte("[")), read+1)
		}
	})
}
