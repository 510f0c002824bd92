package plan

import (
	"regexp"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/google/jsonschema-go/jsonschema"

	"omnivigil/internal/text/shellwords"
)

// resultsForms are the forms as the settings name them.
var resultsForms = []string{"exit", "auto", "go-json", "tap", "libtest"}

var findingsFail = []string{"error", "warning", "never"}

func readResults(r *reader, u *Unit, e *entry) {
	if pattern, ok := strings.CutPrefix(e.value.text, "junit:"); ok && e.value.kind == textKind {
		u.Results = Results{ResultsJUnit, r.files(e.value, pattern, "junit")}
		return
	}
	if r.want(e.value, textKind, e.key) && !slices.Contains(resultsForms, e.value.text) &&
		strings.HasPrefix(e.value.text, "junit") {
		r.wrong(e.value.at, `say where: results = "junit:build/report.xml"`, "%q says no file", e.value.text)
		return
	}
	u.Results = Results{Form: ResultsForm(r.choice(e.value, e.key, resultsForms...))}
}

// files reads a pattern of files that a tool writes, after the word for their form.
func (r *reader) files(v *value, pattern, word string) string {
	if pattern = strings.TrimSpace(pattern); pattern == "" || !doublestar.ValidatePattern(pattern) {
		r.wrong(
			v.at,
			"write a file or a pattern, such as \""+word+":build/report.xml\"",
			"%q is not a pattern of files",
			v.text,
		)
	}
	return pattern
}

func readFindings(r *reader, u *Unit, e *entry) {
	u.Findings = Findings{}
	if e.value.kind == textKind {
		if pattern, ok := strings.CutPrefix(e.value.text, "sarif:"); ok {
			u.Findings.SARIF = r.files(e.value, pattern, "sarif")
			return
		}
		u.Findings.Off = r.choice(e.value, e.key, "auto", "off") == 1
		return
	}
	if !r.want(e.value, tablesKind, e.key) {
		return
	}
	for _, k := range e.value.table.entries {
		if k.key != "pattern" {
			r.unknown(k, "findings", []string{"pattern"})
			continue
		}
		u.Findings.Pattern = r.expression(k.value, k.key)
		x, err := regexp.Compile(u.Findings.Pattern)
		for _, name := range []string{"file", "line", "message"} {
			if err == nil && u.Findings.Pattern != "" && x.SubexpIndex(name) < 0 {
				r.wrong(
					k.value.at,
					"it needs groups named file, line and message; column, severity and rule if there are some",
					"%q has no (?P<%s>...)",
					k.value.text,
					name,
				)
				break
			}
		}
	}
	if len(e.value.table.entries) == 0 {
		r.wrong(e.value.at, `say how it is written: { pattern = "..." }`, "\"findings\" has no \"pattern\"")
	}
}

func readNarrow(r *reader, u *Unit, e *entry) {
	u.Narrow = &Narrow{}
	if e.value.kind == textKind {
		u.Narrow.Add = r.addedWords(e.value, e.key, true)
		return
	}
	if !r.want(e.value, tablesKind, e.key) {
		return
	}
	for _, k := range e.value.table.entries {
		switch k.key {
		case "add":
			u.Narrow.Add = r.addedWords(k.value, k.key, true)
		case "join":
			if r.want(k.value, textKind, k.key) {
				u.Narrow.Join = k.value.text
			}
		case "first":
			u.Narrow.First = r.addedWords(k.value, k.key, false)
		default:
			r.unknown(k, "narrow", []string{"add", "join", "first"})
		}
	}
	if u.Narrow.Add == "" && u.Narrow.First == "" && len(r.found) == 0 {
		r.wrong(
			e.value.at,
			`say which words choose cases: { add = "-run ^({})$", join = "|" }`,
			"\"narrow\" has no \"add\"",
		)
	}
}

// addedWords reads words that are added to a command, as a shell takes them apart.
func (r *reader) addedWords(v *value, key string, slot bool) string {
	if !r.want(v, textKind, key) {
		return ""
	}
	words, err := shellwords.Split(v.text)
	switch {
	case err != nil:
		r.wrong(v.at, "close the quote", "%q cannot be taken apart into words", v.text)
	case slot && !slices.ContainsFunc(words, func(w string) bool { return strings.Contains(w, "{}") }):
		r.wrong(v.at, `put {} where the cases go, such as "-run ^({})$"`, "%q has no {}", v.text)
	}
	return v.text
}

func findingsShape() *jsonschema.Schema {
	pattern := described(
		"A regular expression with groups named file, line and message; column, severity and rule if there are some.",
		textShape(),
	)
	return &jsonschema.Schema{AnyOf: []*jsonschema.Schema{
		choiceShape(
			"auto",
			"off",
		),
		{Type: "string", Pattern: "^sarif:"},
		tableShape(map[string]*jsonschema.Schema{"pattern": pattern}),
	}}
}

func narrowShape() *jsonschema.Schema {
	return &jsonschema.Schema{AnyOf: []*jsonschema.Schema{textShape(), tableShape(map[string]*jsonschema.Schema{
		"add":   described("Words to add; {} stands for the cases.", textShape()),
		"join":  described("What stands between several cases.", textShape()),
		"first": described("Words to add to a whole run while cases fail.", textShape()),
	})}}
}
