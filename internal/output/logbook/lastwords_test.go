package logbook

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestLastWords(t *testing.T) {
	for name, test := range map[string]struct{ output, want string }{
		"node": {`listening
/ferries/app.js:10
    throw new Error("no tide")
    ^

Error: no tide
    at Object.<anonymous> (/ferries/app.js:10:11)
    at Module._compile (node:internal/modules/cjs/loader:1105:14)
    at node:internal/main/run_main_module:22:47

Node.js v20.20.2`, `    throw new Error("no tide")
Error: no tide
Node.js v20.20.2`},
		"go": {`up
panic: no tide

goroutine 1 [running]:
main.berth(...)
	/ferries/main.go:12
main.main()
	/ferries/main.go:8 +0x1d
exit status 2`, `up
panic: no tide
exit status 2`},
		"nothing said": {"one\ntwo\nthree\nfour", "two\nthree\nfour"},
	} {
		t.Run(name, func(t *testing.T) {
			b := open(t)
			b.Append(Entry{Unit: "berths", Run: 1}, "Error: of the run before")
			b.Append(Entry{Unit: "berths", Run: 2, Stream: Opens}, "restarts")
			b.Append(Entry{Unit: "berths", Run: 2}, strings.Split(test.output, "\n")...)
			b.Append(Entry{Unit: "berths", Run: 2, Stream: Ends}, "crashed")
			lines, err := view(t, b).LastWords("berths", 2, 3)
			require.NoError(t, err)
			assert.Equal(t, test.want, strings.Join(texts(lines), "\n"))
		})
	}
}
