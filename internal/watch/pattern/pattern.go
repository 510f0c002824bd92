package pattern

import (
	"path"
	"regexp"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"omnivigil/internal/plan/capture"
)

// A pattern is a glob compiled for one root directory.
type Pattern struct {
	Text     string         // as written
	Absolute string         // for matching whole paths
	Branches [][]string     // its elements, once for each choice of its braces
	captures *regexp.Regexp // nil: it has no captures
}

// Compile compiles a glob relative to root, an absolute path with forward slashes. A pattern without wildcards that
// is the name of a directory means everything below it, as does any pattern with a slash at its end.
func Compile(root, text string) Pattern {
	base := root
	rest := strings.TrimPrefix(withoutCaptures(text), "./")
	named := strings.TrimPrefix(text, "./")
	for strings.HasPrefix(rest, "../") {
		rest, named, base = rest[3:], named[3:], path.Dir(base)
	}
	whole := rest
	if !path.IsAbs(rest) {
		whole, named = path.Join(capture.Literal(base), rest), path.Join(capture.Literal(base), named)
	}
	if strings.HasSuffix(text, "/") || !hasMeta(whole) {
		whole += "/**"
	}
	p := Pattern{Text: text, Absolute: whole}
	if capture.Expression.MatchString(named) {
		p.captures, _ = Translate(named) // nil only for what the plan refuses
	}
	for _, b := range expand(whole) {
		p.Branches = append(p.Branches, elements(b))
	}
	return p
}

// hasMeta reports whether a pattern has characters that are not literal.
func hasMeta(p string) bool {
	for i := 0; i < len(p); i++ {
		switch p[i] {
		case '\\':
			i++
		case '*', '?', '[', '{':
			return true
		}
	}
	return false
}

func unescape(p string) string {
	var b strings.Builder
	for i := 0; i < len(p); i++ {
		if p[i] == '\\' && i+1 < len(p) {
			i++
		}
		b.WriteByte(p[i])
	}
	return b.String()
}

// expand returns the pattern once for each choice of its braces.
func expand(p string) []string {
	open, depth := -1, 0
	start := 0
	var choices []string
	for i := 0; i < len(p); i++ {
		switch p[i] {
		case '\\':
			i++
		case '[':
			i += max(0, strings.IndexByte(p[i:], ']'))
		case '{':
			if depth == 0 {
				open, start = i, i+1
			}
			depth++
		case ',':
			if depth == 1 {
				choices = append(choices, p[start:i])
				start = i + 1
			}
		case '}':
			if depth--; depth != 0 {
				continue
			}
			choices = append(choices, p[start:i])
			var all []string
			for _, c := range choices {
				for _, tail := range expand(p[i+1:]) {
					for _, middle := range expand(c) {
						all = append(all, p[:open]+middle+tail)
					}
				}
			}
			return all
		}
	}
	return []string{p}
}

// Match reports whether the pattern matches the absolute path.
func (p Pattern) Match(file string) bool {
	ok, _ := doublestar.Match(p.Absolute, file)
	return ok
}

// Capture returns the captures of a path that matches the pattern.
func (p Pattern) Capture(file string) map[string]string {
	if p.captures == nil {
		return nil
	}
	taken := map[string]string{}
	m := p.captures.FindStringSubmatch(file)
	for i, name := range p.captures.SubexpNames() {
		if name != "" && i < len(m) {
			taken[name] = m[i]
		}
	}
	return taken
}

// Covers reports whether the pattern matches the path or a directory above it.
func (p Pattern) Covers(file string) bool {
	for ; len(file) > 1; file = path.Dir(file) {
		if p.Match(file) {
			return true
		}
	}
	return false
}

// Reaches reports whether the path of a directory is a beginning of a branch of the pattern, so that something below
// could match.
func Reaches(branch, elements []string) bool {
	for i, el := range elements {
		if i >= len(branch) {
			return false
		}
		if branch[i] == "**" {
			return true
		}
		if ok, _ := doublestar.Match(branch[i], el); !ok {
			return false
		}
	}
	return len(elements) < len(branch)
}

// Base returns the deepest directory that contains every match.
func (p Pattern) Base() string {
	base, _ := doublestar.SplitPattern(p.Absolute)
	return unescape(base)
}

// noise are files that editors and systems write next to the ones that users mean: swap and lock files, backups,
// probes.
var noise = []string{
	"*~", ".*.sw?", ".*.sw?x", ".#*", "#*#", "4913", ".DS_Store", "*.tmp.[0-9]*", Restoring + "*",
}

// Restoring is how the names of files begin that Omnivigil is restoring. Such a file is renamed when it is complete.
const Restoring = ".omnivigil-restoring-"

// IsNoise reports whether a file never counts, such as an editor's swap file.
func IsNoise(file string) bool {
	name := path.Base(file)
	for _, n := range noise {
		if ok, _ := doublestar.Match(n, name); ok {
			return true
		}
	}
	return false
}

// Literal returns the pattern that matches only this relative path.
func Literal(file string) string { return capture.Literal(file) }
