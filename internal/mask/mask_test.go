package mask

import (
	"encoding/base64"
	"encoding/json"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
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
		"a short one":    "x short y",
		"one of lines":   "it has a second line",
	} {
		t.Run(name, func(t *testing.T) {
			hidden := m.String(text)
			assert.Contains(t, hidden, Hidden)
			assert.NotContains(t, hidden, "s3cr")
			assert.NotContains(t, hidden, "short")
		})
	}
	assert.Equal(t, "the abc stays", m.String("the abc stays"), "too short to be hidden")
	assert.Equal(t, "text", (*Mask)(nil).String("text"))
	assert.Nil(t, Of([]string{"", "ab"}))
}

// TestWithinBase64 hides a value in a longer text that is encoded as a whole,
// such as a name and a password for a server, wherever it begins.
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

func TestWriterAndWith(t *testing.T) {
	var out strings.Builder
	m := Of([]string{"one secret"}).With([]string{"two secret"})
	n, err := m.Writer(&out).Write([]byte("one secret, two secret\n"))
	assert.NoError(t, err)
	assert.Equal(t, len("one secret, two secret\n"), n)
	assert.Equal(t, Hidden+", "+Hidden+"\n", out.String())
}
