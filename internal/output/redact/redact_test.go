package redact

import (
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"html"
	"net/url"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

const secret = `s3cr+t/of "Wick" Söund=`

func TestHides(t *testing.T) {
	m := Of([]string{secret, "short", "abc", "first line\nsecond line"})
	quoted, _ := json.Marshal(map[string]string{"password": secret})
	for name, text := range map[string]string{
		"plain":          "password is " + secret + ", really",
		"twice":          secret + secret,
		"in an address":  "postgres://me:" + url.QueryEscape(secret) + "@host",
		"in a path":      "/login/" + url.PathEscape(secret),
		"in JSON":        string(quoted),
		"base64":         base64.StdEncoding.EncodeToString([]byte(secret)),
		"base64 for web": base64.URLEncoding.EncodeToString([]byte(secret)),
		"with %20":       "login=" + strings.ReplaceAll(url.QueryEscape(secret), "+", "%20"),
		"JSON in ASCII":  `"s3cr+t/of \"Wick\" S\u00f6und="`,
		"JSON of a page": `"s3cr+t\/of \"Wick\" Söund="`,
		"hexadecimal":    "key: " + hex.EncodeToString([]byte(secret)),
		"with %2f":       "s3cr%2bt%2fof%20%22Wick%22%20S%c3%b6und%3d",
		"of a path":      "s3cr%2Bt/of%20%22Wick%22%20S%C3%B6und%3D",
		"of a form":      "s3cr%2bt%2fof+%22Wick%22+S%c3%b6und%3d",
		"JSON in JSON":   `{"body":"{\"password\":\"s3cr+t/of \\\"Wick\\\" Söund=\"}"}`,
		"of a page":      "s3cr+t/of &quot;Wick&quot; Söund=",
		"in Go's HTML":   html.EscapeString(secret),
		"in capitals":    strings.ToUpper(secret),
		"in small":       strings.ToLower(secret),
		"in colors":      "it is s3cr\x1b[31m+t/of \"Wick\"\x1b[0m Söund= here",
		"a short one":    "x short y",
		"one of lines":   "it has a second line",
	} {
		t.Run(name, func(t *testing.T) {
			hidden := m.String(text)
			assert.Contains(t, hidden, Hidden)
			assert.NotContains(t, strings.ToLower(hidden), "s3cr")
			assert.NotContains(t, hidden, "short")
		})
	}
	assert.Equal(t, "the abc stays", m.String("the abc stays"), "too short to be hidden")
	assert.Equal(t, "text", (*Mask)(nil).String("text"))
	assert.Nil(t, Of([]string{"", "ab"}))
}

// TestWithinBase64 masks a value at any position of a longer text that is encoded as a whole, such as user name and
// password of a server.
func TestWithinBase64(t *testing.T) {
	m := Of([]string{"correct-horse-battery"})
	for _, before := range []string{"", "a", "ab", "abc", "user:", "a longer one:"} {
		for _, after := range []string{"", "x", "xy", "xyz"} {
			encoded := base64.StdEncoding.EncodeToString([]byte(before + "correct-horse-battery" + after))
			hidden := m.String(encoded)
			assert.Contains(t, hidden, Hidden, "%q %q", before, after)
			decoded, _ := base64.StdEncoding.DecodeString(strings.ReplaceAll(hidden, Hidden, ""))
			assert.NotContains(t, string(decoded), "horse")
		}
	}
}

// TestWrapped masks an encoded value that is split over lines, as long as the pieces are long enough.
func TestWrapped(t *testing.T) {
	value := "correct-horse-battery-staple-and-much-more-of-the-same-kind"
	m := Of([]string{value})
	for _, before := range []string{"", "x", "user:", "much longer before: "} {
		encoded := base64.StdEncoding.EncodeToString([]byte(before + value + " and something after it"))
		for width := 40; width < 77; width += 12 {
			for i := 0; i < len(encoded); i += width {
				line := encoded[i:min(i+width, len(encoded))]
				for _, part := range strings.Split(m.String(line), Hidden) {
					assert.False(
						t,
						strings.Contains(encoded, part) && len(part) > 0 &&
							overlap(encoded, part, before, value) >= pieceSize,
						"%q of %q",
						part,
						line,
					)
				}
			}
		}
	}
}

// overlap returns how many base64 characters of a part of a text depend on the value alone.
func overlap(encoded, part, before, value string) int {
	from, to := (len(before)*4+2)/3, (len(before)+len(value))/3*4
	at := strings.Index(encoded, part)
	return min(at+len(part), to) - max(at, from)
}

// TestWithIsFlat checks that the forms of a value are computed once: each edit of the settings costs as much as the
// first.
func TestWithIsFlat(t *testing.T) {
	m := Of([]string{secret})
	longest := m.Longest()
	for i := range 300 {
		m = m.With([]string{secret, "another secret"})
		m = m.With([]string{fmt.Sprintf("edited %03d", i%3)})
	}
	assert.Equal(t, longest, m.Longest())
	assert.Len(t, m.values, 5)
}

// TestAmong compares the fast search with a slow one.
func TestAmong(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		word := rapid.StringMatching(`[ab]{4,9}`)
		forms := rapid.SliceOfN(word, 1, 5).Draw(t, "forms")
		slices.SortFunc(forms, func(a, b string) int { return len(b) - len(a) })
		text := rapid.StringMatching(`[abc]{0,40}`).Draw(t, "text")
		h := headsOf(forms)
		assert.Equal(
			t,
			slices.ContainsFunc(forms, func(f string) bool { return strings.Contains(text, f) }),
			among(&h, []byte(text)),
		)
	})
}

func BenchmarkString(b *testing.B) {
	var values []string
	for i := range 20 {
		values = append(values, fmt.Sprintf("secret-value-%d-of-the-ferry-line", i))
	}
	m := Of(values)
	line := "12:04:31 GET /berths/wick 200 in 1.2 ms"
	b.SetBytes(int64(len(line)))
	for b.Loop() {
		m.String(line)
	}
}

func TestWriterAndWith(t *testing.T) {
	var out strings.Builder
	m := Of([]string{"one secret"}).With([]string{"two secret"})
	n, err := m.Writer(&out).Write([]byte("one secret, two secret\n"))
	assert.NoError(t, err)
	assert.Equal(t, len("one secret, two secret\n"), n)
	assert.Equal(t, Hidden+", "+Hidden+"\n", out.String())
}
