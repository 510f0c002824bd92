package locate

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/text/location"
)

func TestIn(t *testing.T) {
	root := t.TempDir()
	for _, name := range []string{"cmd/berths/main.go", "web/app.ts", "web/a b.js", "berths.py", "Makefile",
		"src/main.rs", "Berth.java", "x.rb"} {
		require.NoError(t, os.MkdirAll(filepath.Join(root, filepath.Dir(name)), 0o700))
		require.NoError(t, os.WriteFile(filepath.Join(root, name), nil, 0o600))
	}
	for _, test := range []struct{ text, want string }{
		{"cmd/berths/main.go:8:5: undefined: tide", "cmd/berths/main.go 8 5"},
		{"./cmd/berths/main.go:8: undefined", "cmd/berths/main.go 8 0"},
		{"\tROOT/cmd/berths/main.go:12 +0x1d", "cmd/berths/main.go 12 0"},
		{"web/app.ts(3,55): error TS2304", "web/app.ts 3 55"},
		{"web/app.ts:3:55 - error TS2304", "web/app.ts 3 55"},
		{"    at berth (file://ROOT/web/app.ts:10:11)", "web/app.ts 10 11"},
		{"    at berth (ROOT/web/a b.js:10:11)", "web/a b.js 10 11"},
		{`  File "berths.py", line 8, in <module>`, "berths.py 8 0"},
		{"Makefile:4: *** missing separator", "Makefile 4 0"},
		{"  --> src/main.rs:8:5", "src/main.rs 8 5"},
		{"\tat ferries.Berth.take(Berth.java:12)", "Berth.java 12 0"},
		{"x.rb:4:in 'take': no tide", "x.rb 4 0"},
		{"x.rb, line 9: no tide", "x.rb 9 0"},
		{"main.go:8:5 is in the unit's directory", "cmd/berths/main.go 8 5"},
		{"web/app.ts:1 and berths.py:2", "web/app.ts 1 0, berths.py 2 0"},
		{"12:04:31 gone.go:8 localhost:4102", ""},
	} {
		var got []string
		for _, p := range In(strings.ReplaceAll(test.text, "ROOT", root), root, root+"/cmd/berths") {
			name, err := filepath.Rel(root, p.File)
			require.NoError(t, err)
			got = append(got, fmt.Sprint(name, " ", p.Line, " ", p.Column))
		}
		assert.Equal(t, test.want, strings.Join(got, ", "), test.text)
	}
	assert.Equal(t, []string{"http://x/?a"}, Links("\x1b]8;id=1;http://x/?a\x1b\\here\x1b]8;;\x1b\\"))
	assert.Equal(t, []string{"http://127.0.0.1:4102/a?b=c"}, Addresses("listening on http://127.0.0.1:4102/a?b=c."))
}

func TestCommand(t *testing.T) {
	p := location.Location{File: "/ferries/a b.go", Line: 8}
	for editor, want := range map[string][]string{
		"vim":                         {"vim", "+8", "/ferries/a b.go"},
		"/usr/bin/nano -l":            {"/usr/bin/nano", "-l", "+8,1", "/ferries/a b.go"},
		"code --wait":                 {"code", "--wait", "--goto", "/ferries/a b.go:8:1"},
		"unheard-of":                  {"unheard-of", "/ferries/a b.go"},
		"mine {file}:{line}:{column}": {"mine", "/ferries/a b.go:8:1"},
	} {
		cmd, terminal, err := Command(editor, p)
		require.NoError(t, err)
		assert.Equal(t, want, cmd.Args)
		assert.Equal(t, !strings.HasPrefix(editor, "code"), terminal)
	}
	_, _, err := Command(" ", p)
	assert.ErrorIs(t, err, ErrNoEditor)
}
