package findings

import (
	"strings"

	"omnivigil/internal/results"
	"omnivigil/internal/results/source"
	"omnivigil/internal/text/lazyregexp"
	"omnivigil/internal/text/location"
)

// hold keeps a finding until the lines that belong to it have been read: they may name its rule, which identifies it.
func (f *Reader) hold(finding results.Finding, goesOn func(held *results.Finding, line string) bool) (
	results.Mark, bool,
) {
	if _, exists := f.files.Existing(finding.File); !exists {
		return results.NoMark, false
	}
	f.tellNotes()
	f.header, f.last = nil, nil
	f.held, f.goesOn = &finding, goesOn
	return markOf(finding.Severity), true
}

// release reports the finding that is held.
func (f *Reader) release() {
	if held := f.held; held != nil {
		f.held = nil
		f.report(*held)
	}
}

var pyrightMore = lazyregexp.New(`^[ \x{a0}]{4,}([^ \x{a0}].*?)(?: \((report\w+)\))?$`)

// pyrightGoesOn reads the lines below a message of Pyright, the last of which names the rule.
func pyrightGoesOn(held *results.Finding, line string) bool {
	m := pyrightMore.FindStringSubmatch(line)
	if m == nil || held.Rule != "" {
		return false
	}
	held.Notes, held.Rule = append(held.Notes, m[1]), m[2]
	return len(held.Notes) < maxNotes
}

var (
	phpcsFile = lazyregexp.New(`^FILE: (\S.*)$`)
	phpcsForm = lazyregexp.New(`^ *(\d+) \| (ERROR|WARNING) \| (?:\[[x ]\] )?(\S.*)$`)
	phpcsMore = lazyregexp.New(`^ +\| +\| +(\S.*)$`)
	phpcsRule = lazyregexp.New(`^(.*\S) \((\w+(?:\.\w+)+)\)$`)
)

// phpcsTable reads the file's name above a table of PHP_CodeSniffer.
func phpcsTable(f *Reader, line string) (results.Mark, bool) {
	m := phpcsFile.FindStringSubmatch(line)
	if m == nil {
		return results.NoMark, false
	}
	f.table = m[1]
	return results.NoMark, true
}

// phpcsRow reads a row of the table: line, severity and message.
func phpcsRow(f *Reader, line string) (results.Mark, bool) {
	m := phpcsForm.FindStringSubmatch(line)
	if m == nil || f.table == "" {
		return results.NoMark, false
	}
	found := results.Finding{Location: source.Place(f.table, m[1], ""), Severity: results.SeverityOf(m[2])}
	found.Message, found.Rule = ruleOfSniff(m[3])
	return f.hold(found, phpcsGoesOn)
}

func phpcsGoesOn(held *results.Finding, line string) bool {
	m := phpcsMore.FindStringSubmatch(line)
	if m == nil || held.Rule != "" {
		return false
	}
	held.Message, held.Rule = ruleOfSniff(held.Message + " " + m[1])
	return true
}

func ruleOfSniff(text string) (message, rule string) {
	if m := phpcsRule.FindStringSubmatch(text); m != nil {
		return m[1], m[2]
	}
	return text, ""
}

var (
	scriptIn   = lazyregexp.New(`^In (\S.*) line (\d+):$`)
	scriptMark = lazyregexp.New(`^( *)\^[-^]* (SC\d+) \((error|warning|info|style)\): (.*)$`)
)

// shellcheckLine reads the place that ShellCheck writes above a line of a script.
func shellcheckLine(f *Reader, line string) (results.Mark, bool) {
	m := scriptIn.FindStringSubmatch(line)
	if m == nil {
		return results.NoMark, false
	}
	f.script = location.Location{File: m[1], Line: source.Number(m[2])}
	return results.NoMark, true
}

// shellcheckMark reads a mark below that line, with its message.
func shellcheckMark(f *Reader, line string) (results.Mark, bool) {
	m := scriptMark.FindStringSubmatch(line)
	if m == nil || f.script.File == "" {
		return results.NoMark, false
	}
	at := f.script
	at.Column = len(m[1]) + 1
	return f.found(results.Finding{Location: at, Severity: results.SeverityOf(m[3]), Rule: m[2], Message: m[4]})
}

var cmakeForm = lazyregexp.New(
	`^CMake (Error|Warning|Deprecation Warning)(?: \(dev\))? at ([^:]+):(\d+)(?: \((\w+)\))?:$`,
)

// cmake reads the location that CMake writes above a message.
func cmake(f *Reader, line string) (results.Mark, bool) {
	m := cmakeForm.FindStringSubmatch(line)
	if m == nil {
		return results.NoMark, false
	}
	return f.head(results.Finding{Location: source.Place(m[2], m[3], ""), Severity: results.SeverityOf(m[1]), Rule: m[4]})
}

var biomeForm = lazyregexp.New(`^(\S+\.\w+)(?::(\d+):(\d+))? (\w+(?:/\w+)*) +(?:FIXABLE +)?━+$`)

// biome reads the location that Biome writes above a message; a sign before that is the severity.
func biome(f *Reader, line string) (results.Mark, bool) {
	m := biomeForm.FindStringSubmatch(line)
	if m == nil {
		return results.NoMark, false
	}
	return f.head(results.Finding{Location: source.Place(m[1], m[2], m[3]), Rule: m[4]})
}

// head keeps a location whose message follows in the next line that is not empty.
func (f *Reader) head(finding results.Finding) (results.Mark, bool) {
	f.tellNotes()
	f.last = nil
	f.header, f.left = &finding, linesBelow
	return results.NoMark, true
}

var signed = lazyregexp.New(`^\s*([✖×⚠ℹ]) (.*)$`)

// messageOfHeader completes a location with the message below it.
func (f *Reader) messageOfHeader(found results.Finding, line string) (results.Mark, bool) {
	f.header = nil
	if m := tsCode.FindStringSubmatch(line); m != nil {
		found.Rule, line = m[1], m[2]
	}
	if m := signed.FindStringSubmatch(line); m != nil {
		found.Severity, line = results.SeverityOf(m[1]), m[2]
	}
	found.Message = strings.TrimSpace(line)
	return f.found(found)
}

var (
	prettierForm = lazyregexp.New(`^\[(warn|error)\] (\S[^:]*\.\w+)(?:: (.*) \((\d+):(\d+)\))?$`)
	graphical    = lazyregexp.New(`^\s+([×⚠✖]) (?:([\w-]+\([\w/-]+\)): )?(\S.*)$`)
)

// prettier reads Prettier: files whose format differs, and those that it cannot parse.
func prettier(f *Reader, line string) (results.Mark, bool) {
	m := prettierForm.FindStringSubmatch(line)
	if m == nil {
		return results.NoMark, false
	}
	found := results.Finding{Location: source.Place(m[2], m[4], m[5]), Severity: results.SeverityOf(m[1]), Message: m[3]}
	if found.Message == "" {
		found.Message = "is not formatted"
	}
	return f.found(found)
}

// oxlint reads the message that oxlint and similar tools draw above a location.
func oxlint(f *Reader, line string) (results.Mark, bool) {
	m := graphical.FindStringSubmatch(line)
	if m == nil {
		return results.NoMark, false
	}
	return f.head(results.Finding{Severity: results.SeverityOf(m[1]), Rule: m[2], Message: m[3]})
}
