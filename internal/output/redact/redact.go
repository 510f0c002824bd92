// Package redact masks secret values in text, also in encoded forms: base64 and hexadecimal (whole, inside something
// longer, or in wrapped lines), in web addresses, JSON and HTML, quoted for a shell, or with colors inside.
// docs/settings.md lists the forms; encodings.go is the same list in code. Start reading at Mask.
package redact

import (
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"hash/maphash"
	"io"
	"slices"
	"strings"

	"omnivigil/internal/text/escape"
)

// Hidden replaces a secret in a text.
const Hidden = "******"

// shortest is the minimum length of a value that is masked: masking shorter ones would destroy half of the output
// without keeping anything secret.
const shortest = 4

// pieceSize is the minimum length of a piece of an encoded value that is masked where a line end has divided it.
const pieceSize = 16

// Mask masks a set of values. The nil Mask masks nothing. It may be used from any goroutine.
type Mask struct {
	values   []string // sorted, as given
	forms    []string // all forms of them, longest first
	replacer *strings.Replacer
	heads    heads
	longest  int
	pieces   map[uint64]struct{} // hashes of every piece of pieceSize bytes of encoded forms
	seed     maphash.Seed
}

// Of returns the mask of these values; nil: there are none to mask.
func Of(values []string) *Mask {
	values = slices.Compact(slices.Sorted(slices.Values(values)))
	m := &Mask{values: values, pieces: map[uint64]struct{}{}, seed: maphash.MakeSeed()}
	var forms []string
	for _, v := range values {
		for _, line := range append(strings.Split(v, "\n"), v) {
			if line = strings.TrimSpace(line); len(line) >= shortest {
				forms = append(forms, m.add(line)...)
			}
		}
	}
	forms = slices.DeleteFunc(forms, func(f string) bool { return len(f) < shortest })
	// Longer forms first: a value that contains another one is masked as a whole.
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
	m.forms, m.replacer, m.longest, m.heads = forms, strings.NewReplacer(pairs...), len(forms[0]), headsOf(forms)
	return m
}

// add adds the forms of a value, and the pieces of its encoded forms, which lines may divide.
func (m *Mask) add(v string) []string {
	forms := encodings(v)
	for _, e := range wrappable(v) {
		for i := 0; i+pieceSize <= len(e); i++ {
			m.pieces[maphash.String(m.seed, e[i:i+pieceSize])] = struct{}{}
		}
		forms = append(forms, e)
	}
	return forms
}

// wrappable returns the forms of a value that tools wrap into lines: base64, also as a part of something longer, and
// hexadecimal.
func wrappable(v string) []string {
	digits := hex.EncodeToString([]byte(v))
	out := []string{digits, strings.ToUpper(digits)}
	for _, alphabet := range []*base64.Encoding{base64.RawStdEncoding, base64.RawURLEncoding} {
		out = append(out, alphabet.EncodeToString([]byte(v)))
		// Within something longer a value begins at one of three positions in a group of four characters; characters
		// that depend on its neighbors are left out.
		for skip := range 3 {
			padded := append(make([]byte, skip), v...)
			whole := alphabet.EncodeToString(padded[:len(padded)/3*3])
			if first := (skip*4 + 2) / 3; first < len(whole) {
				out = append(out, whole[first:])
			}
		}
	}
	return out
}

// String returns the text with every secret masked.
func (m *Mask) String(text string) string {
	if m == nil {
		return text
	}
	hidden := m.hide(text)
	if strings.IndexByte(text, 0x1b) < 0 {
		return hidden
	}
	// There may be colors within a secret: such a line loses its colors.
	if bare := escape.Strip(hidden); m.hide(bare) != bare {
		return m.hide(escape.Strip(text))
	}
	return hidden
}

// MayChange reports whether String may mask something in a text. It is fast, and rarely true if nothing is masked.
func (m *Mask) MayChange(text []byte) bool {
	if m == nil {
		return false
	}
	if m.mayHide(text) {
		return true
	}
	// Colors may be within a secret.
	return bytes.IndexByte(text, 0x1b) >= 0 && m.mayHide(escape.AppendStripped(nil, text))
}

func (m *Mask) mayHide(text []byte) bool { return among(&m.heads, text) || nextWord(text, 0) >= 0 }

// nextWord returns the position of the next word, at or after a position, that is long enough for a piece of an
// encoded value; -1: there is none.
func nextWord[T string | []byte](text T, from int) int {
	for i := from; i+pieceSize <= len(text); {
		// From its end, a word that is too short is recognized fastest.
		last := i + pieceSize - 1
		for last >= i && encoded[text[last]] {
			last--
		}
		if last < i {
			return i
		}
		i = last + 1
	}
	return -1
}

func (m *Mask) hide(text string) string {
	if among(&m.heads, text) {
		text = m.replacer.Replace(text)
	}
	return m.hidePieces(text)
}

// hidePieces masks pieces of encoded values, in words that are long enough.
func (m *Mask) hidePieces(text string) string {
	var b strings.Builder
	done := 0
	for i := nextWord(text, 0); i >= 0; i = nextWord(text, i) {
		end := i + pieceSize
		for end < len(text) && encoded[text[end]] {
			end++
		}
		for ; i+pieceSize <= end; i++ {
			if !m.isPiece(text[i : i+pieceSize]) {
				continue
			}
			from := i
			for i+1+pieceSize <= end && m.isPiece(text[i+1:i+1+pieceSize]) {
				i++
			}
			b.WriteString(text[done:from])
			b.WriteString(Hidden)
			done = i + pieceSize
			i = done - 1
		}
		i = end
	}
	if done == 0 {
		return text
	}
	return b.String() + text[done:]
}

// Spans returns what String masks in a text without colors, as ordered pairs of byte offsets that do not overlap.
func (m *Mask) Spans(text string) [][2]int {
	if m == nil {
		return nil
	}
	var found [][2]int
	if among(&m.heads, text) {
		for _, form := range m.forms {
			for at := strings.Index(text, form); at >= 0; {
				end := at + len(form)
				found = append(found, [2]int{at, end})
				next := strings.Index(text[end:], form)
				if at = end + next; next < 0 {
					break
				}
			}
		}
	}
	for i := nextWord(text, 0); i >= 0; i = nextWord(text, i+1) {
		if m.isPiece(text[i : i+pieceSize]) {
			found = append(found, [2]int{i, i + pieceSize})
		}
	}
	slices.SortFunc(found, func(a, b [2]int) int { return a[0] - b[0] })
	var spans [][2]int
	for _, f := range found {
		if last := len(spans) - 1; last >= 0 && f[0] <= spans[last][1] {
			spans[last][1] = max(spans[last][1], f[1])
			continue
		}
		spans = append(spans, f)
	}
	return spans
}

func (m *Mask) isPiece(text string) bool {
	_, is := m.pieces[maphash.String(m.seed, text)]
	return is
}

// encoded has the bytes of base64 and hexadecimal.
var encoded = func() (set [256]bool) {
	for c := range set {
		set[c] = c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '+' || c == '/' ||
			c == '-' ||
			c == '_'
	}
	return set
}()

// Dangling reports whether a text may end within a secret: with the beginning of one of its forms.
func (m *Mask) Dangling(text string) bool {
	if m == nil {
		return false
	}
	const least = 3 // fewer characters are no sign
	for _, f := range m.forms {
		for n := min(len(f)-1, len(text)); n >= least; n-- {
			if strings.HasSuffix(text, f[:n]) {
				return true
			}
		}
	}
	return false
}

// Longest is the length of the longest masked form, in bytes.
func (m *Mask) Longest() int {
	if m == nil {
		return 0
	}
	return m.longest
}

// With returns a mask of these values, too.
func (m *Mask) With(values []string) *Mask {
	if m == nil {
		return Of(values)
	}
	if !slices.ContainsFunc(values, func(v string) bool { _, has := slices.BinarySearch(m.values, v); return !has }) {
		return m
	}
	return Of(slices.Concat(m.values, values))
}

// Writer masks secrets in what is written to w. Each Write must be of whole lines.
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
