package stacktrace

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestBlocks contains stack traces as the runtimes print them. A line with "#" separates blocks.
func TestBlocks(t *testing.T) {
	for name, text := range map[string]string{
		"go": `up
#
panic: no tide

goroutine 1 [running]:
main.berth(...)
	/ferries/main.go:12
main.main()
	/ferries/main.go:8 +0x1d
exit status 2
#
down`,
		"node": `listening
#
/ferries/app.js:10
    throw new Error("no tide")
    ^

Error: no tide
    at Object.<anonymous> (/ferries/app.js:10:11)
    at Module._compile (node:internal/modules/cjs/loader:1105:14) {
  code: 'EBERTH'
}
#
Node.js v20.20.2`,
		"node, logged": `up
#
TypeError: no tide
    at berth (/ferries/app.js:10:11)
    at node:internal/main/run_main_module:22:47
#
up`,
		"python": `up
#
Traceback (most recent call last):
  File "/ferries/berths.py", line 8, in <module>
    berth()
    ~~~~~^^
KeyError: 'tide'

During handling of the above exception, another exception occurred:

Traceback (most recent call last):
  File "/ferries/berths.py", line 10, in <module>
    raise ValueError("no tide")
ValueError: no tide
#
down`,
		"java": `up
#
Exception in thread "main" java.lang.IllegalStateException: no tide
	at ferries.Berth.take(Berth.java:12)
	at ferries.Main.main(Main.java:8)
Caused by: java.io.IOException: ebb
	at ferries.Tide.read(Tide.java:4)
	... 1 more
#
down`,
		"ruby": `up
#
berths.rb:4:in 'take': no tide (RuntimeError)
	from berths.rb:8:in '<main>'
#
down`,
		"nothing of the kind": `one
#
  two, indented
#
three: error`,
	} {
		t.Run(name, func(t *testing.T) {
			blocks := strings.Split(text, "\n#\n")
			lines := strings.Split(strings.ReplaceAll(text, "\n#\n", "\n"), "\n")
			starts := Blocks(lines)
			var got []string
			for i, from := range starts[:len(starts)-1] {
				got = append(got, strings.Join(lines[from:starts[i+1]], "\n"))
			}
			assert.Equal(t, strings.Join(blocks, "\n#\n"), strings.Join(got, "\n#\n"))
		})
	}
}
