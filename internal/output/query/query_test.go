package query

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestFilter(t *testing.T) {
	for _, test := range []struct{ text, words string }{
		{"", ""},
		{"unit=tides,berths", "only tides, berths"},
		{"!unit=tides run=3", "without tides, only run 3"},
		{"ripple=last", "what the last save set off"},
		{"!ripple=last", "not what the last save set off"},
		{"!ripple=12", "without ripple 12"},
		{"level=warning", "at least warning"},
		{"event=failure !event=note", "only what is a failure, without what is a note"},
		{"!level=error", "below error"},
		{`refused "no tide" !health`, `with "refused", with "no tide", without "health"`},
		{`/time(d )?out/ !/a\/b/`, `with /time(d )?out/, without /a\/b/`},
		{`"say \"hi\"" "a=b" "!"`, `with "say \"hi\"", with "a=b", with "!"`},
	} {
		f, err := Parse(test.text)
		require.NoError(t, err, test.text)
		assert.Equal(t, test.words, f.Words())
		assert.Equal(t, test.text, f.String())
		again, err := Parse(f.String())
		require.NoError(t, err)
		assert.Equal(t, f, again)
	}
	for text, want := range map[string]string{
		"unit=":      "unit= needs names",
		"run=x":      `run= needs a number, not "x"`,
		"level=loud": "level= must be error, warning, info or debug",
		"event=x":    "event= must be start, end, failure or note",
		"port=4102":  `there is no port=`,
		`"open`:      `"open has no second "`,
		"//":         "there is nothing between",
		"/(/":        "missing closing )",
		"! x":        `"!" needs something after it`,
	} {
		_, err := Parse(text)
		assert.ErrorContains(t, err, want, text)
	}
}

func TestParsePattern(t *testing.T) {
	assert.Equal(t, Pattern{Text: "tide"}, ParsePattern("tide"))
	assert.Equal(t, Pattern{Text: "ti.e", Regexp: true}, ParsePattern("/ti.e"), "while it is typed")
	assert.Equal(t, Pattern{Text: "a/b", Regexp: true}, ParsePattern(`/a\/b/`))
	assert.Equal(t, Pattern{Text: "/"}, ParsePattern("/"))
	_, err := Pattern{}.Compile()
	assert.Error(t, err)
	m, err := Pattern{Text: "ti"}.Compile()
	require.NoError(t, err)
	assert.Equal(t, [][]int{{0, 2}, {3, 5}}, m.All([]byte("Ti tide")))
}

// FuzzFilter parses arbitrary text as a filter, and parses the result again.
func FuzzFilter(f *testing.F) {
	f.Add(`unit=a !"b c" /d/ level=warn ripple=last`)
	f.Fuzz(func(t *testing.T, text string) {
		filter, err := Parse(text)
		if err != nil {
			return
		}
		again, err := Parse(filter.String())
		require.NoError(t, err)
		require.Equal(t, filter, again)
		filter.Words()
	})
}

func FuzzLower(f *testing.F) {
	f.Add([]byte("High WATER [@`{ \xc3\x84\xff"))
	f.Fuzz(func(t *testing.T, text []byte) {
		var want strings.Builder
		for _, c := range text {
			want.WriteByte(lowerOf(c))
		}
		require.Equal(t, want.String(), string(appendLower(nil, text)))
	})
}
