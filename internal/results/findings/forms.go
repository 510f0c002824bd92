package findings

import (
	"bytes"
	"slices"
	"strings"

	"omnivigil/internal/results"
	"omnivigil/internal/results/source"
	"omnivigil/internal/text/lazyregexp"
	"omnivigil/internal/text/location"
)

// form is how some tools write findings.
type form struct {
	hint  string // every line of the form contains it; empty: unknown
	bytes byteSet
	// read reads a line, and reports whether it has the form.
	read func(f *Reader, line string) (results.Mark, bool)
}

// forms are the known forms, special ones before general ones. Each comes from the output of several tools; testdata
// has examples.
var forms = withBytes([]form{
	{hint: " ", read: eslintRow},                   // ESLint, stylelint: rows below a file's name
	{hint: "FILE: ", read: phpcsTable},             // PHP_CodeSniffer: the file's name
	{hint: " | ", read: phpcsRow},                  // and rows below
	{hint: "In ", read: shellcheckLine},            // ShellCheck for terminals: the place
	{hint: " SC", read: shellcheckMark},            // and the messages below the line of source
	{hint: "CMake ", read: cmake},                  // CMake: the location above the message
	{hint: "━", read: biome},                       // Biome: the same
	{hint: "  ", read: oxlint},                     // oxlint: the message above the location
	{hint: "[", read: prettier},                    // Prettier: [error] file: ...
	{hint: `[{"filePath":`, read: eslintJSON},      // ESLint as JSON
	{hint: `[{"kind": "`, read: gccJSON},           // GCC as JSON
	{hint: "\t\"", read: vetJSON},                  // go vet as JSON
	{hint: " in /", read: nginx},                   // nginx: ... in file:3
	{hint: ", col ", read: compact},                // ESLint's compact format: file: line 3, col 5, ...
	{hint: ": line ", read: bashScript},            // bash: file: line 3: ...
	{hint: "sh: ", read: dashScript},               // dash: file: 3: ...
	{hint: " : ", read: xml},                       // libxml2: file:3: parser error : ...
	{hint: "Assertion ", read: assertion},          // assert(3): program: file:3: function: ...
	{hint: "):", read: inBrackets},                 // the TypeScript compiler: file(3,5): error TS2304: ...
	{hint: ") : ", read: inBrackets},               // MSBuild
	{hint: " - ", read: withDash},                  // TypeScript for terminals, Pyright: file:3:5 - error TS2304: ...
	{hint: ":[", read: mavenPlace},                 // Maven: [ERROR] file:[3,5] ...
	{hint: "): ", read: parenthesis},               // Rollup: file (3:5): ...
	{hint: " in ", read: webpackHead},              // webpack: ERROR in file 3:5
	{hint: "", read: headed},                       // Rust, esbuild, Sass: the message, with its location below
	{hint: ":", read: withColons},                  // GCC, Clang, Go, javac, mypy and most others: file:3:5: error: ...
	{hint: "undefined reference", read: linker},    // ld
	{hint: "multiple definition", read: linker},    // ld
	{hint: " line ", read: inWords},                // Perl, PHP: ... at file line 3
	{hint: "Uncaught ", read: uncaught},            // PHP: PHP Fatal error:  Uncaught ... in file:3
	{hint: ":in ", read: rubyError},                // Ruby: file:3:in 'berth': ... (NameError)
	{hint: "Entering directory", read: makeFolder}, // make: file names are relative to another directory, too, from now on
	{hint: "error TS", read: withoutFile},          // the TypeScript compiler's own settings
})

func withBytes(forms []form) []form {
	for i := range forms {
		forms[i].bytes = bytesOf(forms[i].hint)
	}
	return forms
}

var colonForm = lazyregexp.New(
	`^(?:vet: |\[\w+\] )?((?:[A-Za-z]:[\\/])?[^\s:()\["'<>|=][^:"<>|]*):(\d+)(?:[:.](\d+)(?:-\d+)?)?: *` +
		`(?:(fatal error|internal compiler error|runtime error|error|warning|note|info|information|hint|remark|style` +
		`|refactor|convention|performance|portability|help|ERROR|WARNING)` +
		`(?:\s*\[([\w./@:-]+)\]|\s+([A-Z]+\d+))?(?:: *(?:- )?| +(?:- )?)|` +
		`(Error|Warning)(?:\s*\[([\w./@:-]+)\]|\s+([A-Z]+\d+))?: *(?:- )?)?(\S.*)$`, // "Error return ..." is a message
)

var (
	ruleBehind  = lazyregexp.New(`^(.*\S)\s+\[([\w@/.=+:()-]+)\]$`)
	ruleInRound = lazyregexp.New(`^(.*\S) \(([A-Z]{1,4}\d{3,5}|[a-z]+(?:-[a-z]+)*)\)$`)
	ruleBefore  = lazyregexp.New(`^([A-Z]{1,4}\d{3,5}):? +(?:\[\*\] )?(.*)$`)
	wordBefore  = lazyregexp.New(`^(invalid-syntax|unformatted): (.*)$`) // Ruff
	lintBefore  = lazyregexp.New(`^\[(\w+)\] (.*)$`)                     // javac
)

func withColons(f *Reader, line string) (results.Mark, bool) {
	if !f.placeFirst(line) {
		return results.NoMark, false
	}
	m := colonForm.FindStringSubmatch(line)
	if m == nil {
		return results.NoMark, false
	}
	file, column, word, rule, message := m[1], m[3], m[4]+m[7], m[5]+m[6]+m[8]+m[9], m[10]
	// Messages of make about its own file, and of Ruby about a file that it cannot read.
	stops := strings.HasPrefix(message, "*** ") || strings.HasPrefix(message, "syntax error, ")
	if word == "" && column == "" && !stops {
		return results.NoMark, false
	}
	if word == "" && required.MatchString(message) { // by the error that follows
		f.needed = append(f.needed[max(0, len(f.needed)-maxNotes+1):], line)
		return results.NoMark, true
	}
	found := results.Finding{
		Location: source.Place(file, m[2], column),
		Severity: results.Error,
		Assumed:  word == "",
		Rule:     rule,
		Message:  message,
	}
	if word != "" {
		found.Severity = results.SeverityOf(word)
	}
	switch before := ruleBefore.FindStringSubmatch(message); {
	case rule != "":
	case before != nil && word == "":
		found.Rule, found.Message = before[1], before[2]
		found.Severity = severityOfCode(before[1])
		if m := ruleInRound.FindStringSubmatch(found.Message); m != nil { // Pylint writes the rule's name, too
			found.Message, found.Rule = m[1], m[2]
		}
	case lintBefore.MatchString(message):
		m := lintBefore.FindStringSubmatch(message)
		found.Rule, found.Message = m[1], m[2]
	case ruleBehind.MatchString(message):
		m := ruleBehind.FindStringSubmatch(message)
		found.Message, found.Rule = m[1], m[2]
		if level, rule, both := strings.Cut(
			found.Rule,
			"/",
		); both && word == "" &&
			(level == "Warning" || level == "Error") { // ESLint's unix format
			found.Severity, found.Assumed, found.Rule = results.SeverityOf(level), false, rule
		}
	case word == "" && ruleInRound.MatchString(message):
		m := ruleInRound.FindStringSubmatch(message)
		found.Message, found.Rule = m[1], m[2]
	}
	if found.Severity == results.Note && found.Rule == "" && f.last != nil { // it explains the finding before
		f.note(line)
		return results.NoMark, true
	}
	if found.Severity == results.Error {
		found.Notes = f.neededByOwn()
	}
	return f.found(found)
}

// required is how GCC writes for what it instantiates a template, above the error in it.
var required = lazyregexp.New(`^(?:recursively )?required (?:from|by|for) |^in (?:instantiation|substitution) of `)

// neededByOwn returns the lines above an error that name the user's files.
func (f *Reader) neededByOwn() []string {
	var own []string
	for _, line := range f.needed {
		if m := colonForm.FindStringSubmatch(line); m != nil && f.files.Own(m[1]) {
			own = append(own, line)
		}
	}
	f.needed = nil
	return own
}

// placeFirst reports whether a line begins with a file that exists and the number of a line, and then has a column or
// the beginning of a message. It is much faster than the expression, which most lines do not get to.
func (f *Reader) placeFirst(line string) bool {
	line = strings.TrimPrefix(line, "vet: ")
	if end := strings.Index(line, "] "); end > 0 && line[0] == '[' {
		line = line[end+2:]
	}
	for at := 2; at < len(line)-1; at++ { // a drive's letter is no file
		if line[at] != ':' || !isDigit(line[at+1]) {
			continue
		}
		end := at + 1
		for end < len(line) && isDigit(line[end]) {
			end++
		}
		rest := line[end:]
		if len(rest) < 2 || rest[0] != ':' && rest[0] != '.' {
			return false
		}
		if message := strings.TrimLeft(rest[1:], " "); !isDigit(rest[1]) && !slices.ContainsFunc(
			messages, func(word string) bool { return strings.HasPrefix(message, word) }) {
			return false
		}
		_, exists := f.files.Existing(line[:at])
		return exists
	}
	return false
}

// messages are the beginnings of messages behind a location without a column.
var messages = []string{
	"*** ", "syntax error, ", "fatal error", "internal compiler error", "runtime error", "error", "warning", "note",
	"info",
	"hint", "remark", "style", "refactor", "convention", "performance", "portability", "help", "Error", "Warning", "ERROR",
	"WARNING",
}

// severityOfCode returns the severity of a linter's code: of Pylint (four digits), E and F are errors; of Flake8,
// pycodestyle, Pyflakes and Ruff, E9 (syntax) and F8 (undefined names).
func severityOfCode(code string) results.Severity {
	letters := strings.TrimRight(code, "0123456789")
	digits := code[len(letters):]
	switch {
	case code == "invalid-syntax", len(digits) == 4 && (letters == "E" || letters == "F"),
		letters == "E" && strings.HasPrefix(digits, "9"), letters == "F" && strings.HasPrefix(digits, "8"):
		return results.Error
	}
	return results.Warning
}

var bracketForm = lazyregexp.New(
	`^\s*((?:[A-Za-z]:)?[^\s:(][^:("]*)\((\d+)(?:,(\d+))?(?:,\d+,\d+)?\) ?: (?:(error|warning|info|message|hint) ` +
		`)?(?:([A-Z]+\d+) ?: )?(.*)$`,
)

func inBrackets(f *Reader, line string) (results.Mark, bool) {
	m := bracketForm.FindStringSubmatch(line)
	if m == nil || m[4] == "" && m[5] == "" {
		return results.NoMark, false
	}
	return f.found(
		results.Finding{
			Location: source.Place(m[1], m[2], m[3]),
			Severity: results.SeverityOf(m[4]),
			Assumed:  m[4] == "",
			Rule:     m[5],
			Message:  m[6],
		},
	)
}

var dashForm = lazyregexp.New(
	`^( *)((?:[A-Za-z]:)?[^\s:][^:]*):(\d+):(\d+) - (error|warning|information|message|suggestion)(?: ([A-Z]+\d+))?: ` +
		`(.*?)(?: \((report\w+)\))?$`,
)

func withDash(f *Reader, line string) (results.Mark, bool) {
	m := dashForm.FindStringSubmatch(line)
	if m == nil {
		return results.NoMark, false
	}
	found := results.Finding{Location: source.Place(m[2], m[3], m[4]), Severity: results.SeverityOf(m[5]),
		Rule: m[6] + m[8], Message: m[7]}
	if m[1] != "" && found.Rule == "" {
		return f.hold(found, pyrightGoesOn)
	}
	return f.found(found)
}

var mavenForm = lazyregexp.New(`^\[(ERROR|WARNING|INFO)\] (\S[^:]*\.\w+):\[(\d+),(\d+)\] (.*)$`)

func mavenPlace(f *Reader, line string) (results.Mark, bool) {
	m := mavenForm.FindStringSubmatch(line)
	if m == nil {
		return results.NoMark, false
	}
	return f.found(
		results.Finding{Location: source.Place(m[2], m[3], m[4]), Severity: results.SeverityOf(m[1]), Message: m[5]},
	)
}

var parenthesisForm = lazyregexp.New(
	`^(?:\[!\] |\(!\) )?(?:\([^)]*\) )?(?:\w*Error: )?(\S+\.\w+) \((\d+):(\d+)\): (.*)$`,
)

func parenthesis(f *Reader, line string) (results.Mark, bool) {
	m := parenthesisForm.FindStringSubmatch(line)
	if m == nil {
		return results.NoMark, false
	}
	found := results.Finding{Location: source.Place(m[1], m[2], m[3]), Severity: results.Error, Message: m[4]}
	found.Assumed = !strings.HasPrefix(line, "[!]") && !strings.HasPrefix(line, "(!)") &&
		!strings.Contains(line, "Error: ")
	if strings.HasPrefix(line, "(!)") {
		found.Severity = results.Warning
	}
	return f.found(found)
}

var eslintForm = lazyregexp.New(
	`^\s+(\d+):(\d+)\s+(error|warning|info|✖|⚠|✘|×)\s+(.*?)(?:\s{2,}([\w@/.()-]+))?$`,
)

func eslintRow(f *Reader, line string) (results.Mark, bool) {
	if line[0] != ' ' || f.heading == "" {
		return results.NoMark, false
	}
	m := eslintForm.FindStringSubmatch(line)
	if m == nil {
		return results.NoMark, false
	}
	return f.found(
		results.Finding{
			Location: source.Place(f.heading, m[1], m[2]),
			Severity: results.SeverityOf(m[3]),
			Rule:     m[5],
			Message:  m[4],
		},
	)
}

// linesBelow is how far below its message a location may be.
const linesBelow = 6

// headed reads a message whose location is below it.
func headed(f *Reader, line string) (results.Mark, bool) {
	if m := below(line); m != nil { // it follows a line of another form
		h := ruleBefore.FindStringSubmatch(f.heading)
		if h == nil {
			h = wordBefore.FindStringSubmatch(f.heading)
		}
		if h != nil {
			return f.found(
				results.Finding{
					Location: source.Place(m[1], m[2], m[3]),
					Severity: severityOfCode(h[1]),
					Assumed:  true,
					Rule:     h[1],
					Message:  h[2],
				},
			)
		}
		return results.NoMark, false
	}
	if !beginningMatters([]byte(line)) {
		return results.NoMark, false
	}
	m := headForm.FindStringSubmatch(line)
	if m == nil {
		return results.NoMark, false
	}
	return f.head(results.Finding{
		Severity: results.SeverityOf(m[1] + m[4] + m[11]),
		Assumed:  m[1]+m[4]+m[11] == "",
		Rule:     m[2] + m[6] + m[7] + m[9] + m[12],
		Message:  m[3] + m[5] + m[8] + m[10] + m[13],
	})
}

var (
	headForm = lazyregexp.New(
		`^(?:(error|warning)(?:\[([\w:-]+)\])?: (.*)|[✘▲] \[(ERROR|WARNING)\] (.*?)(?: \[([\w-]+)\])?` +
			`|\[([A-Z]+_[A-Z_]+)\] (.*)|\[!\] (?:\([^)]*\) )?(\w*Error): (.*)` +
			`|(Error|Warning|WARNING|(?i:deprecation warning))(?: \[([\w-]+)\])?: (.*))$`,
	)
	placeBare  = lazyregexp.New(`^(\S+\.\w+)(?: \((\d+):(\d+)\))?$`) // Rollup
	placeBelow = lazyregexp.New(`^\s*(?:--> ?|╭─\[ ?)([^\s:]+(?::\\[^\s:]+)?):(\d+):(\d+)`)
	placeAlone = lazyregexp.New(`^\s+(\S[^:]*\.\w+):(\d+):(\d+):$`)
	placeSass  = lazyregexp.New(`^\s+(\S+\.\w+) (\d+):(\d+)\s{2,}\S.*$`)
	webpackIn  = lazyregexp.New(`^(ERROR|WARNING) in (\S+\.\w+)(?: (\d+):(\d+)(?:-\d+(?::\d+)?)?)?$`)
)

// below returns the parts of a location that is drawn below a message, after an arrow; nil: the line is none.
func below(line string) []string {
	if !strings.Contains(line, "-->") && !strings.Contains(line, "╭─[") {
		return nil
	}
	return placeBelow.FindStringSubmatch(line)
}

// placeOfHeader searches a line for the location of the message before it.
func (f *Reader) placeOfHeader(line string) (results.Mark, bool) {
	found := *f.header
	if found.File != "" { // it was written first
		if strings.TrimSpace(line) == "" || vetOther.MatchString(line) {
			return results.NoMark, true
		}
		return f.messageOfHeader(found, unquoted(line))
	}
	m := below(line)
	switch {
	case m != nil || !mayBePlace([]byte(line)):
	case isSpace(line[0]):
		if m = placeAlone.FindStringSubmatch(line); m == nil {
			m = placeSass.FindStringSubmatch(line)
		}
	default:
		m = placeBare.FindStringSubmatch(line)
	}
	if m != nil {
		found.Location = source.Place(m[1], m[2], m[3])
		if mark, exists := f.found(found); exists {
			return mark, true
		}
	}
	if f.left--; f.left == 0 {
		f.header = nil
	}
	return results.NoMark, false
}

// mayBePlace reports whether a line may be the location of the message before it. It is fast.
func mayBePlace(line []byte) bool {
	return len(line) > 0 && (isSpace(line[0]) || bytes.Count(line, []byte(" ")) <= 1 ||
		bytes.Contains(line, []byte("-->")) || bytes.Contains(line, []byte("╭─[")))
}

var tsCode = lazyregexp.New(`^(TS\d+): (.*)$`)

func webpackHead(f *Reader, line string) (results.Mark, bool) {
	m := webpackIn.FindStringSubmatch(line)
	if m == nil {
		return results.NoMark, false
	}
	return f.head(results.Finding{Location: source.Place(m[2], m[3], m[4]), Severity: results.SeverityOf(m[1])})
}

var linkerForm = lazyregexp.New(
	`^(?:\S*ld: )?(?:\S+: in function [^:]+: )?([^\s:]+\.\w+):(?:\(\.\S+\)|(\d+)): (undefined reference to .*` +
		`|multiple definition of .*)$`,
)

func linker(f *Reader, line string) (results.Mark, bool) {
	m := linkerForm.FindStringSubmatch(line)
	if m == nil {
		return results.NoMark, false
	}
	return f.found(
		results.Finding{Location: location.Location{File: m[1], Line: source.Number(m[2])}, Severity: results.Error,
			Assumed: true, Message: m[3]},
	)
}

// phpPrefix is what PHP's own server writes before a message: a time, and a request with the port of its client.
const phpPrefix = `^(?:\[\w{3} \w{3} [ \d]\d \d\d:\d\d:\d\d \d{4}\] )?(?:\S+:\d+ \[\d+\]: [A-Z]+ \S+ - )?`

var wordForm = lazyregexp.New(
	phpPrefix + `(?:PHP )?(?:(Fatal error|Parse error|Warning|Notice|Deprecated):\s+)?` +
		`(.*\S) (?:at|in) (\S+\.\w+) (?:on )?line ` +
		`(\d+)(?:[.,].*)?$`,
)

func inWords(f *Reader, line string) (results.Mark, bool) {
	m := wordForm.FindStringSubmatch(line)
	if m == nil || line[0] == ' ' {
		return results.NoMark, false
	}
	return f.found(
		results.Finding{Location: location.Location{File: m[3], Line: source.Number(m[4])},
			Severity: results.SeverityOf(m[1]), Message: m[2], Trace: true},
	)
}

var uncaughtForm = lazyregexp.New(
	phpPrefix + `(?:PHP )?(?:Fatal error:\s+)?Uncaught (\w+): (.*) in (\S+\.\w+):(\d+)$`,
)

func uncaught(f *Reader, line string) (results.Mark, bool) {
	m := uncaughtForm.FindStringSubmatch(line)
	if m == nil {
		return results.NoMark, false
	}
	return f.found(
		results.Finding{Location: location.Location{File: m[3], Line: source.Number(m[4])}, Severity: results.Error,
			Rule: m[1], Message: m[2], Trace: true},
	)
}

var (
	rubyForm  = lazyregexp.New(`^(\S+\.\w+):(\d+):in [^:]+: (.*) \((\w+(?:::\w+)*)\)$`)
	rubyHead  = lazyregexp.New(`^(\S+\.\w+):(\d+):in [^:]*require[^:]*: (\S+\.\w+:\d+: .*)()$`)
	rubyInner = lazyregexp.New(`^(\S+\.\w+):(\d+): (.*)$`)
)

func rubyError(f *Reader, line string) (results.Mark, bool) {
	m := rubyForm.FindStringSubmatch(line)
	if m == nil {
		m = rubyHead.FindStringSubmatch(line) // the error is continued in the next line
	}
	if m == nil {
		return results.NoMark, false
	}
	if inner := rubyInner.FindStringSubmatch(m[3]); inner != nil { // the file could not be read; m names who required it
		m[1], m[2], m[3] = inner[1], inner[2], inner[3]
	}
	return f.found(
		results.Finding{Location: location.Location{File: m[1], Line: source.Number(m[2])}, Severity: results.Error,
			Message: m[3], Rule: m[4], Trace: true},
	)
}

var makeEnters = lazyregexp.New(`^make(?:\[\d+\])?: Entering directory [` + "`" + `'](.*)'$`)

func makeFolder(f *Reader, line string) (results.Mark, bool) {
	m := makeEnters.FindStringSubmatch(line)
	if m == nil {
		return results.NoMark, false
	}
	f.files.Enter(m[1])
	f.shapes = shapes{}
	return results.NoMark, true
}

var alone = lazyregexp.New(`^error (TS\d+): (.*)$`)

func withoutFile(f *Reader, line string) (results.Mark, bool) {
	m := alone.FindStringSubmatch(line)
	if m == nil {
		return results.NoMark, false
	}
	return f.found(results.Finding{Severity: results.Error, Rule: m[1], Message: m[2]})
}
