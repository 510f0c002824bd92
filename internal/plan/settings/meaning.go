package settings

import (
	"regexp"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/google/jsonschema-go/jsonschema"

	"omnivigil/internal/plan"
	"omnivigil/internal/plan/document"
	"omnivigil/internal/text/shellwords"
)

// resultsForms are the names of the forms in the settings.
var resultsForms = []string{"exit", "auto", "go-json", "tap", "libtest"}

var findingsFail = []string{"error", "warning", "never"}

func readResults(r *reader, u *plan.Unit, e *document.Entry) {
	if pattern, ok := strings.CutPrefix(e.Value.Text, "junit:"); ok && e.Value.Kind == document.TextKind {
		u.Results = plan.Results{Form: plan.ResultsJUnit, JUnit: r.files(e.Value, pattern, "junit")}
		return
	}
	if r.Want(e.Value, document.TextKind, e.Key) && !slices.Contains(resultsForms, e.Value.Text) &&
		strings.HasPrefix(e.Value.Text, "junit") {
		r.Wrong(e.Value.At, `say where: results = "junit:build/report.xml"`, "%q says no file", e.Value.Text)
		return
	}
	u.Results = plan.Results{Form: plan.ResultsForm(r.Choice(e.Value, e.Key, resultsForms...))}
}

// files reads the pattern of a tool's files, after the name of their form.
func (r *reader) files(v *document.Value, pattern, word string) string {
	if pattern = strings.TrimSpace(pattern); pattern == "" || !doublestar.ValidatePattern(pattern) {
		r.Wrong(
			v.At,
			"write a file or a pattern, such as \""+word+":build/report.xml\"",
			"%q is not a pattern of files",
			v.Text,
		)
	}
	return r.rebased(pattern)
}

// findingGroups are the groups that the user's own expression must have.
var findingGroups = []string{"file", "line", "message"}

func readFindings(r *reader, u *plan.Unit, e *document.Entry) {
	u.Findings = plan.Findings{}
	if e.Value.Kind == document.TextKind {
		if pattern, ok := strings.CutPrefix(e.Value.Text, "sarif:"); ok {
			u.Findings.SARIF = r.files(e.Value, pattern, "sarif")
			return
		}
		u.Findings.Off = r.Choice(e.Value, e.Key, "auto", "off") == 1
		return
	}
	if !r.Want(e.Value, document.TablesKind, e.Key) {
		return
	}
	for _, k := range e.Value.Table.Entries {
		if k.Key != "pattern" {
			r.Unknown(k, "findings", []string{"pattern"})
			continue
		}
		u.Findings.Pattern = r.Expression(k.Value, k.Key)
		x, err := regexp.Compile(u.Findings.Pattern)
		for _, name := range findingGroups {
			if err == nil && u.Findings.Pattern != "" && x.SubexpIndex(name) < 0 {
				r.Wrong(
					k.Value.At,
					"it needs groups named file, line and message; column, severity and rule if there are some",
					"%q has no (?P<%s>...)",
					k.Value.Text,
					name,
				)
				break
			}
		}
	}
	if len(e.Value.Table.Entries) == 0 {
		r.Wrong(e.Value.At, `say how it is written: { pattern = "..." }`, "\"findings\" has no \"pattern\"")
	}
}

func readNarrow(r *reader, u *plan.Unit, e *document.Entry) {
	u.Narrow = &plan.Narrow{}
	if e.Value.Kind == document.TextKind {
		u.Narrow.Add = r.addedWords(e.Value, e.Key, true)
		return
	}
	if !r.Want(e.Value, document.TablesKind, e.Key) {
		return
	}
	for _, k := range e.Value.Table.Entries {
		switch k.Key {
		case "add":
			u.Narrow.Add = r.addedWords(k.Value, k.Key, true)
		case "join":
			if r.Want(k.Value, document.TextKind, k.Key) {
				u.Narrow.Join = k.Value.Text
			}
		case "first":
			u.Narrow.First = r.addedWords(k.Value, k.Key, false)
		default:
			r.Unknown(k, "narrow", []string{"add", "join", "first"})
		}
	}
	if u.Narrow.Add == "" && u.Narrow.First == "" && len(r.Found) == 0 {
		r.Wrong(
			e.Value.At,
			`say which words choose cases: { add = "-run ^({})$", join = "|" }`,
			"\"narrow\" has no \"add\"",
		)
	}
}

// addedWords reads arguments that are added to a command, split as by a shell.
func (r *reader) addedWords(v *document.Value, key string, slot bool) string {
	if !r.Want(v, document.TextKind, key) {
		return ""
	}
	words, err := shellwords.Split(v.Text)
	switch {
	case err != nil:
		r.Wrong(v.At, "close the quote", "%q cannot be taken apart into words", v.Text)
	case slot && !slices.ContainsFunc(words, func(w string) bool { return strings.Contains(w, "{}") }):
		r.Wrong(v.At, `put {} where the cases go, such as "-run ^({})$"`, "%q has no {}", v.Text)
	}
	return v.Text
}

func findingsShape() *jsonschema.Schema {
	pattern := described(
		"A regular expression with groups named file, line and message, and optionally column, severity and rule.",
		expressionShape(),
	)
	for _, group := range findingGroups {
		pattern.AllOf = append(pattern.AllOf, textLike(`\(\?P?<`+group+`>`))
	}
	table := tableShape(map[string]*jsonschema.Schema{"pattern": pattern})
	table.Required = []string{"pattern"}
	return &jsonschema.Schema{AnyOf: []*jsonschema.Schema{
		choiceShape(
			"auto",
			"off",
		),
		textLike(`^sarif: *\S`),
		table,
	}}
}

func narrowShape() *jsonschema.Schema {
	slot := `\{\}`
	table := tableShape(map[string]*jsonschema.Schema{
		"add":   described("The arguments to add; {} stands for the tests.", textLike(slot)),
		"join":  described("The text between several tests.", textShape()),
		"first": described("The arguments to add to a whole run while tests fail.", textLike(`\S`)),
	})
	table.AnyOf = []*jsonschema.Schema{required("add"), required("first")}
	return &jsonschema.Schema{AnyOf: []*jsonschema.Schema{textLike(slot), table}}
}

func resultsShape() *jsonschema.Schema {
	return textLike(`^(` + strings.Join(resultsForms, "|") + `|junit: *\S.*)$`)
}
