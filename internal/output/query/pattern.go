package query

import (
	"bytes"
	"fmt"
	"regexp"
	"regexp/syntax"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Pattern is what is searched for in the visible text of lines.
type Pattern struct {
	Text   string
	Regexp bool // Text is an expression (Go's, RE2)
}

// ParsePattern parses what a user types into a search: text, or an expression between slashes. The second slash may
// be missing.
func ParsePattern(text string) Pattern {
	if expr, is := strings.CutPrefix(text, "/"); is && len(expr) > 0 {
		if n := len(expr); n > 1 && expr[n-1] == '/' && expr[n-2] != '\\' {
			expr = expr[:n-1]
		}
		return Pattern{Text: strings.ReplaceAll(expr, `\/`, "/"), Regexp: true}
	}
	return Pattern{Text: text}
}

// String returns the pattern as a word of a filter.
func (p Pattern) String() string {
	if p.Regexp {
		return "/" + strings.ReplaceAll(p.Text, "/", `\/`) + "/"
	}
	if strings.ContainsAny(p.Text, ` "=`) || strings.HasPrefix(p.Text, "!") || strings.HasPrefix(p.Text, "/") ||
		p.Text == "" {
		return `"` + strings.NewReplacer(`"`, `\"`, `\`, `\\`).Replace(p.Text) + `"`
	}
	return p.Text
}

// exact reports whether case matters: there is an uppercase letter.
func (p Pattern) exact() bool {
	text := p.Text
	if p.Regexp { // \S, \W and similar are not letters
		text = regexp.MustCompile(`\\(pL|P.|.)`).ReplaceAllString(text, "")
	}
	return strings.IndexFunc(text, unicode.IsUpper) >= 0
}

// Matcher finds a pattern. It may be used from any goroutine, except for Likely.
type Matcher struct {
	literals [][]byte       // that every match has, in this order; in lowercase unless exact
	exact    bool           // case matters
	expr     *regexp.Regexp // nil: the single literal is the whole pattern

	// For Likely.
	folded []byte
	rarest []byte // the literal that is rarest in the first text; nil until there was one
}

// Compile returns the matcher of the pattern; an error explains what is wrong with its expression.
func (p Pattern) Compile() (*Matcher, error) {
	if p.Text == "" {
		return nil, fmt.Errorf("there is nothing to look for")
	}
	m := &Matcher{exact: p.exact()}
	expr := p.Text
	if !p.Regexp {
		m.literals = [][]byte{[]byte(p.Text)}
		if m.exact || isASCII(m.literals[0]) {
			return m, nil
		}
		expr = regexp.QuoteMeta(p.Text)
	}
	flags := syntax.Perl
	if !m.exact {
		flags |= syntax.FoldCase
	}
	tree, err := syntax.Parse(expr, flags)
	if err != nil {
		return nil, fmt.Errorf(
			"/%s/ is no expression: %s",
			p.Text,
			strings.TrimPrefix(err.Error(), "error parsing regexp: "),
		)
	}
	if m.expr, err = regexp.Compile(tree.String()); err != nil {
		return nil, fmt.Errorf("/%s/ is no expression: %w", p.Text, err)
	}
	m.literals = slices.DeleteFunc(literalsIn(tree.Simplify(), m.exact), func(l []byte) bool { return len(l) < 2 })
	return m, nil
}

func isASCII(p []byte) bool {
	for _, b := range p {
		if b >= utf8.RuneSelf {
			return false
		}
	}
	return true
}

// literalsIn returns texts that every match of an expression has, in this order and without overlap.
func literalsIn(e *syntax.Regexp, exact bool) [][]byte {
	switch e.Op {
	case syntax.OpLiteral:
		if exact && e.Flags&syntax.FoldCase != 0 { // (?i) within it
			return nil
		}
		text := []byte(string(e.Rune))
		if !exact {
			text = bytes.ToLower(text)
		}
		if (e.Flags&syntax.FoldCase != 0 || !exact) && (!isASCII(text) || bytes.ContainsAny(text, "ks")) {
			return [][]byte{foldable(text)} // letters beyond ASCII may differ in more than case
		}
		return [][]byte{text}
	case syntax.OpCapture, syntax.OpPlus:
		return literalsIn(e.Sub[0], exact)
	case syntax.OpRepeat:
		if e.Min > 0 {
			return literalsIn(e.Sub[0], exact)
		}
	case syntax.OpConcat:
		var all [][]byte
		for _, sub := range joined(e.Sub) {
			all = append(all, literalsIn(sub, exact)...)
		}
		return all
	}
	return nil
}

// joined merges consecutive literals of an expression.
func joined(parts []*syntax.Regexp) []*syntax.Regexp {
	var out []*syntax.Regexp
	for _, p := range parts {
		if n := len(
			out,
		); n > 0 && p.Op == syntax.OpLiteral && out[n-1].Op == syntax.OpLiteral &&
			out[n-1].Flags == p.Flags {
			both := *p
			both.Rune = slices.Concat(out[n-1].Rune, p.Rune)
			out[n-1] = &both
			continue
		}
		out = append(out, p)
	}
	return out
}

// foldable returns the longest part of a text whose letters have no case variants outside of ASCII: k has the Kelvin
// sign, s the long s (Unicode, CaseFolding.txt).
func foldable(text []byte) []byte {
	parts := bytes.FieldsFunc(text, func(r rune) bool { return r >= utf8.RuneSelf || r == 'k' || r == 's' })
	var longest []byte
	for _, p := range parts {
		if len(p) > len(longest) {
			longest = p
		}
	}
	return longest
}

// HasLiteral reports whether every match has a known text, so that Likely helps.
func (m *Matcher) HasLiteral() bool { return len(m.literals) > 0 }

// Likely returns the first position at or after from, in a text of many lines, that may be in a match; -1: there is
// none. It is for one goroutine at a time, and for texts without colors. Prepare must be called first.
func (m *Matcher) Likely(text []byte, from int) int {
	in := text
	if !m.exact {
		in = m.folded
	}
	if from >= len(in) {
		return -1
	}
	if at := bytes.Index(in[from:], m.rarest); at >= 0 {
		return from + at
	}
	return -1
}

// Prepare prepares Likely for a text. The first text decides which of the literals is searched for.
func (m *Matcher) Prepare(text []byte) {
	if !m.exact {
		m.folded = appendLower(m.folded[:0], text)
		text = m.folded
	}
	if m.rarest != nil {
		return
	}
	fewest := 0
	for _, l := range m.literals {
		if n := bytes.Count(text, l); m.rarest == nil || n < fewest || n == fewest && len(l) > len(m.rarest) {
			m.rarest, fewest = l, n
		}
	}
}

// Match reports whether a line's visible text has the pattern.
func (m *Matcher) Match(text []byte) bool {
	if m.expr == nil {
		return m.index(text, m.literals[0]) >= 0
	}
	rest := text
	for _, l := range m.literals { // ten times as fast as the expression
		at := m.index(rest, l)
		if at < 0 {
			return false
		}
		rest = rest[at+len(l):]
	}
	return m.expr.Match(text)
}

// All returns the matches in a line's visible text, as pairs of byte offsets.
func (m *Matcher) All(text []byte) [][]int {
	if m.expr != nil {
		return m.expr.FindAllIndex(text, -1)
	}
	var all [][]int
	literal := m.literals[0]
	for from := 0; ; {
		at := m.index(text[from:], literal)
		if at < 0 {
			return all
		}
		all = append(all, []int{from + at, from + at + len(literal)})
		from += at + len(literal)
	}
}

// index returns the position of a literal, or -1.
func (m *Matcher) index(text, literal []byte) int {
	if m.exact {
		return bytes.Index(text, literal)
	}
	return indexFold(text, literal)
}

// indexFold is bytes.Index for a text of lowercase ASCII letters that ignores the case of the line.
func indexFold(text, small []byte) int {
	lower, upper := small[0], upperOf(small[0])
	for at := 0; at+len(small) <= len(text); at++ {
		if c := text[at]; (c == lower || c == upper) && equalFold(text[at:at+len(small)], small) {
			return at
		}
	}
	return -1
}

func equalFold(text, small []byte) bool {
	for i, c := range text {
		if lowerOf(c) != small[i] {
			return false
		}
	}
	return true
}

func lowerOf(c byte) byte {
	if 'A' <= c && c <= 'Z' {
		return c + 'a' - 'A'
	}
	return c
}

func upperOf(c byte) byte {
	if 'a' <= c && c <= 'z' {
		return c + 'A' - 'a'
	}
	return c
}
