package pattern

import (
	"regexp"
	"strings"

	"omnivigil/internal/plan/capture"
)

// withoutCaptures returns the plain glob that matches the same paths as the pattern.
func withoutCaptures(text string) string {
	return capture.Expression.ReplaceAllStringFunc(text, func(c string) string {
		if strings.HasSuffix(c, "...}") {
			return "**"
		}
		return "*"
	})
}

// Translate turns a glob with captures into a regular expression that names them.
func Translate(glob string) (*regexp.Regexp, error) {
	var b strings.Builder
	b.WriteString(`\A`)
	named := map[string]bool{}
	depth := 0
	for i := 0; i < len(glob); {
		rest := glob[i:]
		atStart := i == 0 || glob[i-1] == '/'
		if m := capture.Expression.FindStringSubmatch(rest); m != nil && strings.HasPrefix(rest, m[0]) {
			i += writeCapture(&b, m, rest, named)
			continue
		}
		switch {
		case atStart && strings.HasPrefix(rest, "**/"):
			b.WriteString(`(?:.*/)?`)
			i += 3
		case atStart && rest == "**":
			b.WriteString(`.*`)
			i += 2
		case rest[0] == '*':
			b.WriteString(`[^/]*`)
			i++
		case rest[0] == '?':
			b.WriteString(`[^/]`)
			i++
		case rest[0] == '[':
			i += writeClass(&b, rest)
		case rest[0] == '{':
			b.WriteString(`(?:`)
			depth++
			i++
		case rest[0] == '}' && depth > 0:
			b.WriteString(`)`)
			depth--
			i++
		case rest[0] == ',' && depth > 0:
			b.WriteString(`|`)
			i++
		case rest[0] == '\\' && len(rest) > 1:
			b.WriteString(regexp.QuoteMeta(rest[1:2]))
			i += 2
		default:
			b.WriteString(regexp.QuoteMeta(rest[:1]))
			i++
		}
	}
	b.WriteString(`\z`)
	return regexp.Compile(b.String())
}

// writeCapture writes one capture and returns how much of the glob it used. Of two captures with one name the first
// counts.
func writeCapture(b *strings.Builder, m []string, rest string, named map[string]bool) int {
	open := "(?P<" + m[1] + ">"
	if named[m[1]] {
		open = "(?:"
	}
	named[m[1]] = true
	switch {
	case m[2] == "":
		b.WriteString(open + `[^/]+)`)
	case strings.HasPrefix(rest[len(m[0]):], "/"):
		b.WriteString(`(?:` + open + `.+)/)?`)
		return len(m[0]) + 1
	default:
		b.WriteString(open + `.*)`)
	}
	return len(m[0])
}

// writeClass writes a [class] and returns how much of the glob it used.
func writeClass(b *strings.Builder, rest string) int {
	end := strings.IndexByte(rest[2:], ']')
	if end < 0 {
		b.WriteString(`\[`)
		return 1
	}
	class := rest[1 : end+2]
	if class[0] == '!' || class[0] == '^' {
		b.WriteString(`[^/` + class[1:] + `]`)
	} else {
		b.WriteString(`[` + class + `]`)
	}
	return end + 3
}
