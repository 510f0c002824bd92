package findings

import (
	"encoding/json"
	"strconv"

	"omnivigil/internal/results"
	"omnivigil/internal/results/source"
	"omnivigil/internal/text/lazyregexp"
)

// Single lines of tools that write locations in a form of their own, and JSON.

var (
	nginxForm   = lazyregexp.New(`\[(emerg|alert|crit|error|warn)\] (?:\d+#\d+: )?(\S.*) in (/\S+):(\d+)$`)
	compactForm = lazyregexp.New(`^(\S.*): line (\d+), col (\d+), (Error|Warning) - (.*?)(?: \(([\w@/.-]+)\))?$`)
	bashForm    = lazyregexp.New(`^(\S[^:]*): line (\d+): (\S.*)$`)
	shellForm   = lazyregexp.New(`^(\S[^:]*\.\w*sh): (\d+): (\S.*)$`)
	xmlForm     = lazyregexp.New(`^([^\s:][^:]*):(\d+): (?:element [^:]+: )?[\w ]*\b(error|warning) : (\S.*)$`)
	assertForm  = lazyregexp.New(`^[^\s:]+: ([^\s:]+):(\d+): (?:.*: )?(Assertion .* failed)\.$`)
)

// nginx reads what nginx writes about its settings.
func nginx(f *Reader, line string) (results.Mark, bool) {
	m := nginxForm.FindStringSubmatch(line)
	if m == nil {
		return results.NoMark, false
	}
	return f.found(results.Finding{Location: source.Place(m[3], m[4], ""), Severity: results.SeverityOf(m[1]),
		Message: m[2]})
}

// compact reads ESLint's compact format.
func compact(f *Reader, line string) (results.Mark, bool) {
	m := compactForm.FindStringSubmatch(line)
	if m == nil {
		return results.NoMark, false
	}
	return f.found(results.Finding{Location: source.Place(m[1], m[2], m[3]), Severity: results.SeverityOf(m[4]),
		Message: m[5], Rule: m[6]})
}

// bashScript reads what bash writes about a line of a script. The script may continue, so it is no stated failure.
func bashScript(f *Reader, line string) (results.Mark, bool) {
	return f.ofScript(bashForm.FindStringSubmatch(line))
}

// dashScript reads the same of other shells.
func dashScript(f *Reader, line string) (results.Mark, bool) {
	return f.ofScript(shellForm.FindStringSubmatch(line))
}

func (f *Reader) ofScript(m []string) (results.Mark, bool) {
	if m == nil {
		return results.NoMark, false
	}
	return f.found(results.Finding{Location: source.Place(m[1], m[2], ""), Severity: results.Error, Assumed: true,
		Message: m[3], Trace: true})
}

// xml reads libxml2, for example xmllint.
func xml(f *Reader, line string) (results.Mark, bool) {
	m := xmlForm.FindStringSubmatch(line)
	if m == nil {
		return results.NoMark, false
	}
	return f.found(results.Finding{Location: source.Place(m[1], m[2], ""), Severity: results.SeverityOf(m[3]),
		Message: m[4]})
}

// assertion reads the message of assert(3).
func assertion(f *Reader, line string) (results.Mark, bool) {
	m := assertForm.FindStringSubmatch(line)
	if m == nil {
		return results.NoMark, false
	}
	return f.found(results.Finding{Location: source.Place(m[1], m[2], ""), Severity: results.Error, Message: m[3],
		Trace: true})
}

// eslintJSON reads the format json of ESLint.
func eslintJSON(f *Reader, line string) (results.Mark, bool) {
	var files []struct {
		FilePath string
		Messages []struct {
			RuleID       string
			Severity     int // 1: warning, 2: error
			Message      string
			Line, Column int
		}
	}
	if json.Unmarshal([]byte(line), &files) != nil {
		return results.NoMark, false
	}
	worst := results.NoMark
	for _, file := range files {
		for _, m := range file.Messages {
			found := results.Finding{Severity: results.Warning, Rule: m.RuleID, Message: m.Message}
			found.File, found.Line, found.Column = file.FilePath, m.Line, m.Column
			if m.Severity == 2 {
				found.Severity = results.Error
			}
			mark, _ := f.found(found)
			worst = max(worst, mark)
		}
	}
	return worst, true
}

// gccJSON reads -fdiagnostics-format=json of GCC.
func gccJSON(f *Reader, line string) (results.Mark, bool) {
	type place struct {
		Caret struct {
			File         string
			Line, Column int
		}
	}
	var all []struct {
		Kind, Message, Option string
		Locations             []place
		Children              []struct{ Message string }
	}
	if json.Unmarshal([]byte(line), &all) != nil {
		return results.NoMark, false
	}
	worst := results.NoMark
	for _, d := range all {
		found := results.Finding{Severity: results.SeverityOf(d.Kind), Rule: d.Option, Message: d.Message}
		if len(d.Locations) > 0 {
			at := d.Locations[0].Caret
			found.File, found.Line, found.Column = at.File, at.Line, at.Column
		}
		for _, c := range d.Children[:min(len(d.Children), maxNotes)] {
			found.Notes = append(found.Notes, c.Message)
		}
		mark, _ := f.found(found)
		worst = max(worst, mark)
	}
	return worst, true
}

var (
	vetPass    = lazyregexp.New(`^\t\t"(\w+)": \[$`)
	vetPlace   = lazyregexp.New(`^\t+"posn": "(.+?):(\d+):(\d+)",?$`)
	vetOther   = lazyregexp.New(`^\t+"(?:end|category|suggested_fixes)": `)
	vetMessage = lazyregexp.New(`^\t+"message": ("(?:[^"\\]|\\.)*"),?$`)
)

// vetJSON reads go vet -json, which prints an indented object: by package and analyzer, locations and messages. It
// states no severity.
func vetJSON(f *Reader, line string) (results.Mark, bool) {
	if m := vetPass.FindStringSubmatch(line); m != nil {
		f.analyzer = m[1]
		return results.NoMark, true
	}
	if m := vetPlace.FindStringSubmatch(line); m != nil {
		return f.head(results.Finding{Location: source.Place(m[1], m[2], m[3]), Severity: results.Error, Assumed: true,
			Rule: f.analyzer})
	}
	return results.NoMark, false
}

// unquoted returns the text of a line of JSON with a message, or the line.
func unquoted(line string) string {
	if m := vetMessage.FindStringSubmatch(line); m != nil {
		if text, err := strconv.Unquote(m[1]); err == nil {
			return text
		}
	}
	return line
}
