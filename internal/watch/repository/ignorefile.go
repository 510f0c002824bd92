package repository

import (
	"bytes"
	"fmt"
	"path"
	"path/filepath"
	"regexp"
	"strings"

	"omnivigil/internal/files"
)

// Ignore files are read as described in gitignore(5): the last matching rule decides; rules of a deeper directory
// come before those of the directories above it, then the repository's info/exclude, then the user's own file;
// nothing below an ignored directory can be included again.

// IgnoreFile is the name of the files with the rules of a directory.
const IgnoreFile = ".gitignore"

// ignoreRule is one line of an ignore file.
type ignoreRule struct {
	text     string // as written
	file     string
	line     int
	negated  bool // "!": includes what an earlier rule ignores
	dirOnly  bool // "/" at the end
	nameOnly bool // without any other "/": it applies to a name in any directory below
	match    func(name string) bool
}

func (r *ignoreRule) String() string { return fmt.Sprintf("%q (%s line %d)", r.text, r.file, r.line) }

// Scope is the rules of one ignore file, and of those with lower precedence.
type Scope struct {
	up    *Scope
	base  string // the directory that its rules are relative to
	rules []*ignoreRule
}

// With returns the scope with the rules of another file before it. A file that does not exist or cannot be read has
// none.
func (s *Scope) With(base, file string) *Scope {
	text, err := files.Read(filepath.FromSlash(file), files.Sane)
	if err != nil {
		return s
	}
	rules := parseIgnore(text, file)
	if len(rules) == 0 {
		return s
	}
	return &Scope{up: s, base: base, rules: rules}
}

// decides returns the rule that decides about the path, or nil.
func (s *Scope) decides(file string, dir bool) *ignoreRule {
	name := path.Base(file)
	for ; s != nil; s = s.up {
		below, ok := strings.CutPrefix(file, strings.TrimSuffix(s.base, "/")+"/")
		if !ok {
			continue
		}
		for i := len(s.rules) - 1; i >= 0; i-- {
			r := s.rules[i]
			if r.dirOnly && !dir {
				continue
			}
			if r.nameOnly && r.match(name) || !r.nameOnly && r.match(below) {
				return r
			}
		}
	}
	return nil
}

// Ignores reports whether the path is ignored, provided that no directory above it is.
func (s *Scope) Ignores(file string, dir bool) bool {
	r := s.decides(file, dir)
	return r != nil && !r.negated
}

func parseIgnore(text []byte, file string) []*ignoreRule {
	var rules []*ignoreRule
	text = bytes.TrimPrefix(text, []byte("\xef\xbb\xbf"))
	for i, line := range bytes.Split(text, []byte("\n")) {
		if r := parseIgnoreLine(string(bytes.TrimSuffix(line, []byte("\r")))); r != nil {
			r.file, r.line = file, i+1
			rules = append(rules, r)
		}
	}
	return rules
}

func parseIgnoreLine(line string) *ignoreRule {
	if strings.HasPrefix(line, "#") {
		return nil
	}
	line = trimSpaces(line)
	r := &ignoreRule{text: line}
	glob := line
	glob, r.negated = strings.CutPrefix(glob, "!")
	glob, r.dirOnly = strings.CutSuffix(glob, "/")
	r.nameOnly = !strings.Contains(glob, "/")
	glob = strings.TrimPrefix(glob, "/")
	if glob == "" {
		return nil
	}
	r.match = ignoreMatch(glob, r.nameOnly)
	return r
}

// trimSpaces removes trailing spaces that are not escaped by a backslash.
func trimSpaces(line string) string {
	end := 0
	for i := 0; i < len(line); i++ {
		switch line[i] {
		case ' ':
			continue
		case '\\':
			i++
		}
		end = min(i+1, len(line))
	}
	return line[:end]
}

// ignoreMatch compiles a glob of an ignore file. Plain names and extensions, nearly all there are, need no
// expression.
func ignoreMatch(glob string, nameOnly bool) func(string) bool {
	if !strings.ContainsAny(glob, `*?[\`) {
		return func(name string) bool { return name == glob }
	}
	if nameOnly && glob[0] == '*' && !strings.ContainsAny(glob[1:], `*?[\`) {
		return func(name string) bool { return strings.HasSuffix(name, glob[1:]) }
	}
	re := ignoreExpression(glob)
	if re == nil {
		return func(string) bool { return false }
	}
	return func(name string) bool { return re.MatchString(asRunes(name)) }
}

// asRunes makes a rune of each byte, because the rules are about bytes.
func asRunes(s string) string {
	ascii := true
	for i := 0; i < len(s) && ascii; i++ {
		ascii = s[i] < 0x80
	}
	if ascii {
		return s
	}
	runes := make([]rune, len(s))
	for i := range len(s) {
		runes[i] = rune(s[i])
	}
	return string(runes)
}

// ignoreExpression translates a glob of an ignore file, or returns nil for one that matches nothing because it is
// incomplete.
func ignoreExpression(glob string) *regexp.Regexp {
	var b strings.Builder
	b.WriteString(`(?s)\A`)
	start := strings.IndexAny(glob, `*?[\`) // the part before is compared literally, and does not count as "before **"
	b.WriteString(regexp.QuoteMeta(asRunes(glob[:start])))
	for i := start; i < len(glob); {
		switch glob[i] {
		case '*':
			end := i
			for end < len(glob) && glob[end] == '*' {
				end++
			}
			i += writeStars(&b, glob, start, i, end)
		case '?':
			b.WriteString(`[^/]`)
			i++
		case '[':
			class, used := ignoreClass(glob[i:])
			if used == 0 {
				return nil
			}
			b.WriteString(class)
			i += used
		case '\\':
			if i+1 == len(glob) {
				return nil
			}
			b.WriteString(regexp.QuoteMeta(asRunes(glob[i+1 : i+2])))
			i += 2
		default:
			b.WriteString(regexp.QuoteMeta(asRunes(glob[i : i+1])))
			i++
		}
	}
	b.WriteString(`\z`)
	re, _ := regexp.Compile(b.String()) // nil: too large
	return re
}

// writeStars writes glob[i:end], which are all stars, and returns how much of the glob was used. Two or more alone
// between slashes match any number of directories; others stay within a name.
func writeStars(b *strings.Builder, glob string, start, i, end int) int {
	alone := end-i >= 2 && (i == start || glob[i-1] == '/')
	rest := glob[end:]
	switch {
	case alone && rest == "":
		b.WriteString(`.*`)
	case alone && rest[0] == '/':
		b.WriteString(`(?:.*/)?`)
		return end - i + 1
	case alone && strings.HasPrefix(rest, `\/`):
		b.WriteString(`.*`)
	default:
		b.WriteString(`[^/]*`)
	}
	return end - i
}

// namedClasses are the POSIX classes, for bytes.
var namedClasses = map[string]func(byte) bool{
	"alnum":  func(c byte) bool { return isAlpha(c) || isDigit(c) },
	"alpha":  isAlpha,
	"blank":  func(c byte) bool { return c == ' ' || c == '\t' },
	"cntrl":  func(c byte) bool { return c < 0x20 || c == 0x7f },
	"digit":  isDigit,
	"graph":  func(c byte) bool { return c > 0x20 && c < 0x7f },
	"lower":  func(c byte) bool { return 'a' <= c && c <= 'z' },
	"print":  func(c byte) bool { return c >= 0x20 && c < 0x7f },
	"punct":  func(c byte) bool { return c > 0x20 && c < 0x7f && !isAlpha(c) && !isDigit(c) },
	"space":  func(c byte) bool { return c == ' ' || '\t' <= c && c <= '\r' },
	"upper":  func(c byte) bool { return 'A' <= c && c <= 'Z' },
	"xdigit": func(c byte) bool { return isDigit(c) || 'a' <= c|0x20 && c|0x20 <= 'f' },
}

func isAlpha(c byte) bool { return 'a' <= c|0x20 && c|0x20 <= 'z' }
func isDigit(c byte) bool { return '0' <= c && c <= '9' }

// ignoreClass translates the [class] at the beginning of glob, and returns its length: 0 if it does not end or names
// an unknown class.
func ignoreClass(glob string) (class string, used int) {
	var in [256]bool
	i := 1
	negated := i < len(glob) && (glob[i] == '!' || glob[i] == '^')
	if negated {
		i++
	}
	var before byte // the first byte of a possible range
	for first := true; ; first = false {
		if i >= len(glob) {
			return "", 0
		}
		c := glob[i]
		switch {
		case c == ']' && !first:
			return bytesClass(in, negated), i + 1
		case c == '\\':
			if i++; i >= len(glob) {
				return "", 0
			}
			c = glob[i]
			in[c], before = true, c
		case c == '-' && before != 0 && i+1 < len(glob) && glob[i+1] != ']':
			if i++; glob[i] == '\\' {
				if i++; i >= len(glob) {
					return "", 0
				}
			}
			for x := int(before); x <= int(glob[i]); x++ {
				in[x] = true
			}
			before = 0
		case c == '[' && i+1 < len(glob) && glob[i+1] == ':':
			end := strings.IndexByte(glob[i+2:], ']')
			if end < 0 {
				return "", 0
			}
			name, closed := strings.CutSuffix(glob[i+2:i+2+end], ":")
			if !closed {
				in['['], before = true, '['
				break
			}
			has := namedClasses[name]
			if has == nil {
				return "", 0
			}
			for x := range 256 {
				in[x] = in[x] || has(byte(x))
			}
			i, before = i+2+end, 0
		default:
			in[c], before = true, c
		}
		i++
	}
}

// bytesClass writes a set of bytes, without the slash, as a class of an expression.
func bytesClass(in [256]bool, negated bool) string {
	var b strings.Builder
	for c := range in {
		if in[c] != negated && c != '/' {
			fmt.Fprintf(&b, `\x{%x}`, c)
		}
	}
	if b.Len() == 0 {
		return `[^\x{0}-\x{10FFFF}]`
	}
	return "[" + b.String() + "]"
}
