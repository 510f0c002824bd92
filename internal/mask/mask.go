// Package mask hides secret values in text, also where they stand encoded: in
// base64 (whole or within something longer), in web addresses, in JSON.
package mask

import (
	"encoding/base64"
	"encoding/json"
	"io"
	"net/url"
	"slices"
	"strings"
)

// Hidden stands in a text where a secret was.
const Hidden = "******"

// shortest is the length of the shortest value that is hidden: a shorter one
// would blot out half of what is said without keeping anything secret.
const shortest = 4

// Mask hides a set of values. The nil Mask hides nothing. It may be used from any
// goroutine.
type Mask struct {
	forms    []string // each way in which a value may appear
	replacer *strings.Replacer
	longest  int
}

// Of returns the mask of these values, or nil where there are none to hide.
func Of(values []string) *Mask {
	var forms []string
	for _, v := range values {
		for _, line := range append(strings.Split(v, "\n"), v) {
			if line = strings.TrimSpace(line); len(line) >= shortest {
				forms = append(forms, encodings(line)...)
			}
		}
	}
	// Longer forms first: a value that holds another is hidden whole.
	slices.SortFunc(forms, func(a, b string) int {
		if len(a) != len(b) {
			return len(b) - len(a)
		}
		return strings.Compare(a, b)
	})
	forms = slices.Compact(forms)
	if len(forms) == 0 {
		return nil
	}
	pairs := make([]string, 0, 2*len(forms))
	for _, f := range forms {
		pairs = append(pairs, f, Hidden)
	}
	return &Mask{forms, strings.NewReplacer(pairs...), len(forms[0])}
}

// encodings returns a value as it may appear in a text.
func encodings(v string) []string {
	out := []string{v, url.QueryEscape(v), url.PathEscape(v)}
	if quoted, err := json.Marshal(v); err == nil {
		out = append(out, string(quoted[1:len(quoted)-1]))
	}
	for _, alphabet := range []*base64.Encoding{base64.RawStdEncoding, base64.RawURLEncoding} {
		out = append(out, alphabet.EncodeToString([]byte(v)))
		// Within something longer a value begins at any of three places of a group
		// of four characters; those that depend on its neighbours are left out.
		for skip := range 3 {
			padded := append(make([]byte, skip), v...)
			whole := alphabet.EncodeToString(padded[:len(padded)/3*3])
			if first := (skip*4 + 2) / 3; first < len(whole) {
				out = append(out, whole[first:])
			}
		}
	}
	return slices.DeleteFunc(out, func(f string) bool { return len(f) < shortest })
}

// String returns the text with every secret hidden.
func (m *Mask) String(text string) string {
	if m == nil {
		return text
	}
	return m.replacer.Replace(text)
}

// Longest is the length of the longest form that is hidden, in bytes.
func (m *Mask) Longest() int {
	if m == nil {
		return 0
	}
	return m.longest
}

// With returns a mask that hides what both do.
func (m *Mask) With(values []string) *Mask {
	if m == nil {
		return Of(values)
	}
	return Of(append(slices.Clone(m.forms), values...))
}

// Writer hides secrets in what is written to w. Each Write must hold whole lines.
func (m *Mask) Writer(w io.Writer) io.Writer { return writer{m, w} }

type writer struct {
	mask *Mask
	to   io.Writer
}

func (w writer) Write(p []byte) (int, error) {
	if _, err := io.WriteString(w.to, w.mask.String(string(p))); err != nil {
		return 0, err
	}
	return len(p), nil
}
