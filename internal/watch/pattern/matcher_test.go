package pattern

import (
	"fmt"
	"path"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// hearsPlainly computes the matcher's answer for one interest from the definition: the first rule whose pattern
// matches decides, unless an ignore pattern matches the path or a directory above it.
func hearsPlainly(root string, in Interest, file string) int {
	matches := func(text, file string) bool {
		text = withoutCaptures(text)
		glob := path.Join(root, text)
		if strings.HasSuffix(text, "/") || !hasMeta(text) {
			glob += "/**"
		}
		for _, branch := range expand(glob) {
			if matchesPlainly(elements(branch), elements(file)) {
				return true
			}
		}
		return false
	}
	for _, ignore := range in.Ignore {
		for dir := file; dir != "/"; dir = path.Dir(dir) {
			if matches(strings.TrimSuffix(ignore, "/"), dir) {
				return -1
			}
		}
	}
	for i, r := range in.Rules {
		if matches(r.Pattern, file) {
			if r.Out {
				return -1
			}
			return i
		}
	}
	return -1
}

// matchesPlainly matches element by element, "**" with any number of them.
func matchesPlainly(glob, file []string) bool {
	switch {
	case len(glob) == 0:
		return len(file) == 0
	case glob[0] == "**":
		return matchesPlainly(glob[1:], file) || len(file) > 0 && matchesPlainly(glob, file[1:])
	case len(file) == 0:
		return false
	}
	ok, _ := doublestar.Match(glob[0], file[0])
	return ok && matchesPlainly(glob[1:], file[1:])
}

// FuzzMatcher compares the matcher for many interests with the definition.
func FuzzMatcher(f *testing.F) {
	f.Add("**/*.go", "cmd/{a,b}/**", "dist", "cmd/a/x.go")
	f.Add("a/*/[a-c]?.{js,ts}", "a/**/b/**/c", "**/gen/", "a/b/gen/c")
	f.Add("*.test.ts", "{web,api}/*", "web/*.{css,html}", "web/x.test.ts")
	f.Add("src", "src/", "src/**", "src/a")
	f.Fuzz(func(t *testing.T, one, two, three, file string) {
		for _, p := range []string{one, two, three} {
			if !doublestar.ValidatePattern(p) || !utf8.ValidString(p) || path.Clean(p) != strings.TrimSuffix(p, "/") ||
				strings.HasPrefix(p, "/") ||
				strings.HasPrefix(p, "..") || strings.Contains(p, "\\") || p == "." || len(p) > 40 ||
				strings.Count(p, "{") > 3 {
				return
			}
		}
		if path.Clean("/"+file) != "/"+file || file == "" || len(elements(file)) > 6 || !utf8.ValidString(file) ||
			file == ".git" {
			return
		}
		interests := []Interest{
			{Key: "0", Rules: rulesOf(one, two, three)},
			{Key: "1", Rules: rulesOf(three, one), Ignore: []string{two}},
			{Key: "2", Rules: []Rule{{two, true}, {one, false}, {three, false}}},
			{Key: "3", Rules: rulesOf(two), Ignore: []string{three, one}},
		}
		m := NewMatcher("/r", interests)
		full := path.Join("/r", file)
		heard := map[int]int{0: -1, 1: -1, 2: -1, 3: -1}
		dir := m.At(path.Dir(full))
		for _, a := range m.Hears(dir, path.Base(full), false) {
			heard[a.Interest] = a.Rule
		}
		wanted := m.Wants(dir, false)
		for i, in := range interests {
			want := hearsPlainly("/r", in, full)
			require.Equal(t, want, heard[i], "interest %d hears of %q by %q %q %q", i, file, one, two, three)
			require.False(
				t,
				want >= 0 && !wanted,
				"%q is in a directory that is not wanted by %q %q %q",
				file,
				one,
				two,
				three,
			)
		}
	})
}

func TestFirstRuleDecides(t *testing.T) {
	m := NewMatcher("/r", []Interest{
		{Key: "a", Rules: []Rule{{"web/**/*.md", true}, {"web/{page}.html", false}, {"web", false}}},
		{Key: "b", Rules: rulesOf("**/*.html"), Ignore: []string{"web/old/"}},
		{Key: "c", Rules: rulesOf("**"), Unignored: true},
	})
	for file, want := range map[string][]Match{
		"web/a.md":        {{2, 0}},
		"web/x.html":      {{0, 1}, {1, 0}, {2, 0}},
		"web/old/x.html":  {{0, 2}, {2, 0}},
		"web/deep/er.txt": {{0, 2}, {2, 0}},
	} {
		full := path.Join("/r", file)
		assert.Equal(t, want, m.Hears(m.At(path.Dir(full)), path.Base(full), false), file)
		assert.Equal(t, []Match{{2, 0}}, m.Hears(m.At(path.Dir(full)), path.Base(full), true), "%s, ignored", file)
	}
}

// BenchmarkHears finds the units that hear of a file, among 10 to 1,000 units.
func BenchmarkHears(b *testing.B) {
	for _, units := range []int{10, 100, 1000} {
		b.Run(fmt.Sprint(units), func(b *testing.B) {
			var interests []Interest
			for i := range units {
				name := fmt.Sprintf("unit%03d", i)
				interests = append(interests, Interest{Key: name, Ignore: []string{"**/dist/**", "**/*_gen.go"},
					Rules: rulesOf("cmd/"+name+"/**/*.go", "internal/"+name+"/*.{go,sql}", name+"/{area}/*.css")})
			}
			m := NewMatcher("/r", interests)
			dir := m.At("/r/cmd/unit007/deep")
			for b.Loop() {
				if len(m.Hears(dir, "main.go", false)) != 1 {
					b.Fatal("not heard")
				}
			}
		})
	}
}

func rulesOf(patterns ...string) []Rule {
	var all []Rule
	for _, p := range patterns {
		all = append(all, Rule{Pattern: p})
	}
	return all
}
