package diff

import (
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// shown is a hunk as text, with the words that differ in brackets.
func shown(hunks []Hunk) string {
	var b strings.Builder
	for _, h := range hunks {
		for _, l := range h.Lines {
			text, at := "", 0
			for _, w := range l.Words {
				text += l.Text[at:w[0]] + "[" + l.Text[w[0]:w[1]] + "]"
				at = w[1]
			}
			b.WriteString(map[Op]string{Same: " ", Removed: "-", Added: "+"}[l.Op] + text + l.Text[at:])
			if l.NoEnd {
				b.WriteString("$")
			}
			b.WriteString("\n")
		}
	}
	return b.String()
}

func TestOf(t *testing.T) {
	for name, test := range map[string]struct{ before, after, want string }{
		"nothing":        {"a\n", "a\n", ""},
		"added":          {"", "a\nb\n", "+a\n+b\n"},
		"removed":        {"a\n", "", "-a\n"},
		"a word":         {"the tide is high\n", "the tide is low\n", "-the tide is [high]\n+the tide is [low]\n"},
		"a number":       {"port = 4102;\n", "port = 4103;\n", "-port = [4102];\n+port = [4103];\n"},
		"two words":      {"a b c d\n", "a x c y\n", "-a [b] c [d]\n+a [x] c [y]\n"},
		"one more":       {"f(a)\n", "f(a, b)\n", "-f(a)\n+f(a[, b])\n"},
		"another line":   {"the tide\n", "ferries sail\n", "-the tide\n+ferries sail\n"},
		"other numbers":  {"a\nb\n", "c\n", "-a\n-b\n+c\n"},
		"no end":         {"a", "a\n", "-a$\n+a\n"},
		"umlauts":        {"schön hier\n", "schön dort\n", "-schön [hier]\n+schön [dort]\n"},
		"carriage":       {"a\r\n", "b\r\n", "-a\n+b\n"},
		"lines around":   {"1\n2\n3\n4\n5\n", "1\n2\n3\n4\nx\n", " 2\n 3\n 4\n-5\n+x\n"},
		"two of a block": {"a 1\nb 1\n", "a 2\nb 2\n", "-a [1]\n-b [1]\n+a [2]\n+b [2]\n"},
	} {
		t.Run(name, func(t *testing.T) {
			hunks, err := Of(test.before, test.after)
			require.NoError(t, err)
			assert.Equal(t, test.want, shown(hunks))
		})
	}
	far := strings.Repeat("x\n", 30)
	hunks, err := Of("a\n"+far+"b\n", "A\n"+far+"B\n")
	require.NoError(t, err)
	require.Len(t, hunks, 2)
	assert.Equal(t, [2]int{29, 29}, [2]int{hunks[1].From, hunks[1].To})
	added, removed := Counts(hunks)
	assert.Equal(t, [2]int{2, 2}, [2]int{added, removed})
}

// FuzzOf checks that a diff turns one version into the other, and that its offsets are within the lines.
func FuzzOf(f *testing.F) {
	f.Add("a\nb\nc\n", "a\nx\nc")
	f.Add("schön\r\n", "\xff\n")
	f.Fuzz(func(t *testing.T, before, after string) {
		hunks, err := Of(before, after)
		if err != nil {
			return
		}
		for _, h := range hunks {
			for _, l := range h.Lines {
				at := 0
				for _, w := range l.Words {
					require.LessOrEqual(t, at, w[0])
					require.Less(t, w[0], w[1])
					require.LessOrEqual(t, w[1], len(l.Text))
					at = w[1]
					if utf8.ValidString(l.Text) {
						require.True(t, utf8.ValidString(l.Text[w[0]:w[1]]))
					}
				}
			}
		}
	})
}
