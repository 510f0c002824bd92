package results

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"omnivigil/internal/api"
	"omnivigil/internal/plan"
	"omnivigil/internal/text/lazyregexp"
	"omnivigil/internal/text/shellwords"
)

// runners are how the common runners accept the names of cases, by their commands.
var runners = []struct {
	command *lazyregexp.Regexp
	narrow  plan.Narrow
	name    func(dir string, c api.CaseName) string // its name for a case; nil: the reported name
}{
	{lazyregexp.New(`\bgo test\b|\bgotest\b`), plan.Narrow{Add: "-run ^({})$", Join: "|"}, nil},
	{lazyregexp.New(`\bnode\b.* --test\b`), plan.Narrow{Add: "--test-name-pattern ^({})$", Join: "|"}, lastLevel},
	{lazyregexp.New(`\bpytest\b|\bpy\.test\b`), plan.Narrow{Add: "{}"}, pytestName},
	{lazyregexp.New(`\bcargo test\b`), plan.Narrow{Add: "-- --exact {}"}, nil},
	{lazyregexp.New(`\bprove\b`), plan.Narrow{Add: "{}"}, suiteOf},
}

// ErrNoNarrow: it is unknown how a command is narrowed.
type ErrNoNarrow struct{ Unit string }

func (e ErrNoNarrow) Error() string {
	return fmt.Sprintf(
		`set narrow = "... {} ..." for %s: how its command takes the names of tests is not known`,
		e.Unit,
	)
}

// Words returns the arguments that make a unit's command run only these cases.
func Words(u *plan.Unit, cases []api.CaseName) ([]string, error) {
	command := strings.Join(u.Run.Argv(), " ")
	how, name := u.Narrow, func(_ string, c api.CaseName) string { return fullName(c) }
	for _, r := range runners {
		if !r.command.MatchString(command) {
			continue
		}
		if how == nil || how.Add == "" {
			how = &r.narrow
		}
		if r.name != nil {
			name = r.name
		}
		break
	}
	if how == nil || how.Add == "" {
		return nil, ErrNoNarrow{u.Name}
	}
	names := make([]string, len(cases))
	for i, c := range cases {
		names[i] = name(u.Dir, c)
	}
	return fill(how.Add, how.Join, compact(names))
}

// First returns the arguments for a full run of a unit while cases fail; nil: none.
func First(u *plan.Unit, failing []api.CaseName) []string {
	if u.Narrow == nil || u.Narrow.First == "" || len(failing) == 0 {
		return nil
	}
	names := make([]string, len(failing))
	for i, c := range failing {
		names[i] = fullName(c)
	}
	words, err := fill(u.Narrow.First, u.Narrow.Join, compact(names))
	if err != nil {
		return nil // plan.Read has parsed it before
	}
	return words
}

func compact(names []string) []string {
	names = slices.Clone(names)
	slices.Sort(names)
	return slices.Compact(names)
}

func fullName(c api.CaseName) string {
	if c.Name == "" {
		return c.Suite
	}
	return c.Name
}

// fill inserts names into words. Joined by "|" they are quoted as expressions; without a separator, a word with {} is
// repeated for each.
func fill(text, join string, names []string) ([]string, error) {
	words, err := shellwords.Split(text)
	if err != nil {
		return nil, err
	}
	const slot = "{}"
	var out []string
	for _, word := range words {
		before, after, found := strings.Cut(word, slot)
		switch {
		case !found:
			out = append(out, word)
		case join == "":
			for _, n := range names {
				out = append(out, strings.ReplaceAll(word, slot, n))
			}
		case join == "|":
			out = append(out, alternatives(before, after, names))
		default:
			out = append(out, strings.ReplaceAll(word, slot, strings.Join(names, join)))
		}
	}
	return out, nil
}

// alternatives joins names to an expression that matches one of them. For levels of a name, which runners match one
// by one (go help testflag), the expression is applied to each: ^({})$ and a/b result in ^(a)$/^(b)$.
func alternatives(before, after string, names []string) string {
	if !slices.ContainsFunc(names, func(n string) bool { return strings.Contains(n, "/") }) {
		quoted := make([]string, len(names))
		for i, n := range names {
			quoted[i] = regexp.QuoteMeta(n)
		}
		return before + strings.Join(quoted, "|") + after
	}
	var each []string
	for _, n := range names {
		levels := strings.Split(n, "/")
		for i, level := range levels {
			levels[i] = before + regexp.QuoteMeta(level) + after
		}
		each = append(each, strings.Join(levels, "/"))
	}
	return strings.Join(each, "|")
}

// lastLevel is the name of a case for node --test: its last level.
func lastLevel(_ string, c api.CaseName) string {
	return fullName(c)[strings.LastIndexByte(fullName(c), '/')+1:]
}

// suiteOf is the name of a case for prove: its file.
func suiteOf(_ string, c api.CaseName) string {
	if c.Suite == "" {
		return c.Name
	}
	return c.Suite
}

// pytestName is the name of a case for pytest: the one that it prints itself, or derived from its JUnit XML, of the
// class tests.test_berths.TestTide and test_low, tests/test_berths.py::TestTide::test_low.
func pytestName(dir string, c api.CaseName) string {
	if strings.HasSuffix(c.Suite, ".py") {
		return strings.TrimSuffix(c.Suite+"::"+c.Name, "::")
	}
	parts := strings.Split(c.Suite, ".")
	for n := len(parts); n > 0; n-- {
		file := strings.Join(parts[:n], "/") + ".py"
		if _, err := os.Stat(filepath.Join(dir, filepath.FromSlash(file))); err == nil {
			return strings.Join(append(append([]string{file}, parts[n:]...), c.Name), "::")
		}
	}
	return fullName(c)
}
