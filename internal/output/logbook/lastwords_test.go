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
		"a test's reason is no frame": {`--- FAIL: TestPick (0.00s)
    pick_test.go:8: picked 3 berths
FAIL`, `--- FAIL: TestPick (0.00s)
    pick_test.go:8: picked 3 berths
FAIL`},
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

// TestReason passes over the lines with which tools end after a failure.
func TestReason(t *testing.T) {
	for name, test := range map[string]struct{ output, want string }{
		"go run": {"no berth is free\nexit status 1", "no berth is free"},
		"make":   {"tide: gauge is stuck\nmake: *** [Makefile:2: all] Error 4", "tide: gauge is stuck"},
		"linter": {"fares.js needs a semicolon\nFinished in 29ms on 4 files", "fares.js needs a semicolon"},
		"node":   {"the pump is off\nduration_ms: 0.38", "the pump is off"},
		"npm": {"Error: no water\nnpm error Lifecycle script `build` failed with error:\nnpm error code 1",
			"Error: no water"},
		"an error":   {"cannot open the sluice\nlisting berths\n3 errors", "cannot open the sluice"},
		"only those": {"exit status 1", "exit status 1"},
	} {
		t.Run(name, func(t *testing.T) {
			b := open(t)
			b.Append(Entry{Unit: "berths", Run: 2}, strings.Split(test.output, "\n")...)
			line, has := view(t, b).Reason("berths", 2)
			require.True(t, has)
			assert.Equal(t, test.want, line.Text)
		})
	}
}
