package mcp

import (
	"bytes"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestMessages forwards valid messages and answers invalid ones with an error.
func TestMessages(t *testing.T) {
	const ping = `{"jsonrpc":"2.0","id":1,"method":"ping"}`
	for name, test := range map[string]struct{ in, passed, answer string }{
		"a message":          {ping + "\n", ping + "\n", ""},
		"one without an end": {ping, ping + "\n", ""},
		"empty lines":        {"\n\r\n" + ping + "\r\n", ping + "\n", ""},
		"no JSON":            {"{high water\n" + ping + "\n", ping + "\n", `"code":-32700`},
		"bytes":              {"\x00\xff\n" + ping + "\n", ping + "\n", `"code":-32700`},
		"no message":         {"[1]\n{\"tide\":1}\n" + ping + "\n", ping + "\n", `"code":-32600`},
		"an empty batch":     {"[]\n" + ping + "\n", ping + "\n", `"code":-32600`},
		"a batch":            {"[" + ping + "]\n", "[" + ping + "]\n", ""},
		"a message without end": {strings.Repeat("x", longestMessage+1) + "\n" + ping + "\n", ping + "\n",
			"longer than"},
	} {
		t.Run(name, func(t *testing.T) {
			var out bytes.Buffer
			passed, err := io.ReadAll(newMessages(io.NopCloser(strings.NewReader(test.in)), &out))
			require.NoError(t, err)
			assert.Equal(t, test.passed, string(passed))
			assert.Contains(t, out.String(), test.answer)
			assert.Equal(t, test.answer == "", out.Len() == 0)
		})
	}
}

func FuzzMessages(f *testing.F) {
	f.Add([]byte("{\"jsonrpc\":\"2.0\",\"method\":\"ping\"}\n[\n"))
	f.Fuzz(func(t *testing.T, in []byte) {
		_, err := io.ReadAll(newMessages(io.NopCloser(bytes.NewReader(in)), io.Discard))
		assert.NoError(t, err)
	})
}
