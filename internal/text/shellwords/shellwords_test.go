package shellwords

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/text/format"
)

func TestSplit(t *testing.T) {
	for text, want := range map[string][]string{
		"":                        nil,
		" \t ":                    nil,
		"-run Tide":               {"-run", "Tide"},
		"--grep '#12' # all":      {"--grep", "#12", "#", "all"},
		"a#b #c":                  {"a#b", "#c"},
		`a\ b "c d" 'e f'`:        {"a b", "c d", "e f"},
		`"" ''`:                   {"", ""},
		`"a\"b\\c\d\$"`:           {`a"b\c\d$`},
		`'a\b'`:                   {`a\b`},
		`a"b"'c'd`:                {"abcd"},
		"$HOME `x` *.go a|b >c;d": {"$HOME", "`x`", "*.go", "a|b", ">c;d"},
		"a\\\nb c\nd":             {"ab", "c", "d"},
	} {
		got, err := Split(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for _, text := range []string{`"`, `'a`, `a\`, `"a\"`} {
		_, err := Split(text)
		assert.ErrorIs(t, err, ErrOpenQuote, text)
	}
}

// FuzzTyped quotes any words and splits the result into the same words.
func FuzzTyped(f *testing.F) {
	f.Add("-run", "a b", `"'\`)
	f.Add("#", "", "$HOME\n")
	f.Fuzz(func(t *testing.T, a, b, c string) {
		words := []string{a, b, c}
		got, err := Split(format.Typed(words))
		require.NoError(t, err)
		assert.Equal(t, words, got)
	})
}

// FuzzAsShell compares with the shell for text in which nothing but quoting has a meaning.
func FuzzAsShell(f *testing.F) {
	f.Add(`a\ "b\c\\" 'd' e\f`)
	f.Fuzz(func(t *testing.T, text string) {
		if strings.Trim(text, "abc \\'\"-") != "" {
			return
		}
		got, err := Split(text)
		if err != nil {
			return
		}
		out, err := exec.Command("/bin/sh", "-c", "printf '%s\\n' "+text+" end").Output()
		require.NoError(t, err)
		assert.Equal(t, strings.Join(append(got, "end"), "\n")+"\n", string(out))
	})
}
