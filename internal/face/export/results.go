package export

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/results/sarif"
)

// Formats of results: for cases JUnit XML and the Test Anything Protocol, version 14 (testanything.org); for findings
// SARIF 2.1.0 (docs.oasis-open.org/sarif); for both JSON lines, each {"case": ...} or {"finding": ...} as the socket
// has them.
const (
	JUnit     = "junit"
	TAP       = "tap"
	SARIF     = "sarif"
	JSONLines = "json"
)

// ResultsFormatOf returns the format for a file's extension; empty: none.
func ResultsFormatOf(file string) string {
	switch strings.ToLower(filepath.Ext(file)) {
	case ".xml":
		return JUnit
	case ".tap":
		return TAP
	case ".sarif":
		return SARIF
	case ".json", ".jsonl", ".ndjson":
		return JSONLines
	}
	return ""
}

// Results are what is written.
type Results struct {
	Project  string
	Root     string // the project's directory, which locations are relative to
	At       time.Time
	Cases    []api.Case // with their output, if it is to be written
	Findings []api.Finding
}

// ResultsOf returns all tests of a session, the failed ones with their output, and all findings.
func ResultsOf(ctx context.Context, p api.Record, units []string) (Results, error) {
	snap, err := p.Snapshot(ctx)
	if err != nil {
		return Results{}, err
	}
	r := Results{Project: snap.Project.Name, Root: snap.Project.Root, At: snap.At}
	for more := true; more; {
		page, err := p.Cases(ctx, api.ResultQuery{Units: units, From: len(r.Cases), Count: api.MaxLines})
		if err != nil {
			return r, err
		}
		r.Cases = append(r.Cases, page.Cases...)
		more = len(page.Cases) > 0 && len(r.Cases) < page.Total
	}
	for i, c := range r.Cases {
		if c.Status != api.CaseFailed {
			continue
		}
		if whole, err := p.Case(ctx, c.Unit, api.CaseName{Suite: c.Suite, Name: c.Name}); err == nil {
			r.Cases[i].Output = whole.Output
		}
	}
	for more := true; more; {
		q := api.ResultQuery{Units: units, By: "unit", From: len(r.Findings), Count: api.MaxLines}
		page, err := p.Findings(ctx, q)
		if err != nil {
			return r, err
		}
		r.Findings = append(r.Findings, page.Findings...)
		more = len(page.Findings) > 0 && len(r.Findings) < page.Total
	}
	return r, nil
}

// ResultsFile writes results into a file, and replaces an earlier one when everything is written.
func ResultsFile(r Results, format, file string) error {
	var out bytes.Buffer
	if err := WriteResults(r, format, &out); err != nil {
		return err
	}
	return os.WriteFile(file, out.Bytes(), 0o600)
}

// WriteResults writes results in a format.
func WriteResults(r Results, format string, w io.Writer) error {
	switch format {
	case JUnit:
		return r.junit(w)
	case TAP:
		return r.tap(w)
	case SARIF:
		return r.sarif(w)
	case JSONLines:
		return r.lines(w)
	}
	return fmt.Errorf(`the format of results must be "junit", "tap", "sarif" or "json", not %q`, format)
}

// short is a file's name relative to the project's directory, if it is below that.
func (r Results) short(file string) string {
	if rel, err := filepath.Rel(r.Root, file); err == nil && filepath.IsLocal(rel) {
		return filepath.ToSlash(rel)
	}
	return filepath.ToSlash(file)
}

// The elements of JUnit XML, with what both schemas in common use require and allow: that of Ant and that of Jenkins.
// Their rules are in testdata. Neither has the location of a test, so it is in the text of the failure.
type (
	junitSuites struct {
		XMLName xml.Name     `xml:"testsuites"`
		Suites  []junitSuite `xml:"testsuite"`
	}
	junitSuite struct {
		ID         int             `xml:"id,attr"`
		Package    string          `xml:"package,attr"`
		Name       string          `xml:"name,attr"`
		Timestamp  string          `xml:"timestamp,attr"`
		Host       string          `xml:"hostname,attr"`
		Tests      int             `xml:"tests,attr"`
		Failures   int             `xml:"failures,attr"`
		Errors     int             `xml:"errors,attr"`
		Skipped    int             `xml:"skipped,attr"`
		Time       string          `xml:"time,attr"`
		Properties []junitProperty `xml:"properties>property"`
		Cases      []junitCase     `xml:"testcase"`
		Out        string          `xml:"system-out"`
		Err        string          `xml:"system-err"`
	}
	junitProperty struct {
		Name  string `xml:"name,attr"`
		Value string `xml:"value,attr"`
	}
	junitCase struct {
		Class   string        `xml:"classname,attr"`
		Name    string        `xml:"name,attr"`
		Time    string        `xml:"time,attr"`
		Skipped *junitMessage `xml:"skipped"`
		Failure *junitMessage `xml:"failure"`
	}
	junitMessage struct {
		Message string `xml:"message,attr"`
		Type    string `xml:"type,attr"`
		Text    string `xml:",chardata"`
	}
)

// junitHost is the name of the host where the schema requires one and it is of no interest.
const junitHost = "localhost"

// junit writes a test suite for each unit.
func (r Results) junit(w io.Writer) error {
	var all junitSuites
	for i, unit := range r.units() {
		s := junitSuite{
			ID: i, Package: valid(r.Project), Name: unit, Host: junitHost,
			Timestamp:  r.At.UTC().Format("2006-01-02T15:04:05"),
			Properties: []junitProperty{{"project", valid(r.Project)}},
		}
		var took api.Seconds
		for _, c := range r.Cases {
			if c.Unit != unit {
				continue
			}
			s.Cases = append(s.Cases, r.junitCase(c))
			s.Tests++
			took += c.Took
			switch c.Status {
			case api.CaseFailed:
				s.Failures++
			case api.CaseSkipped:
				s.Skipped++
			}
		}
		s.Time = secondsText(took)
		all.Suites = append(all.Suites, s)
	}
	if _, err := io.WriteString(w, xml.Header); err != nil {
		return err
	}
	out := xml.NewEncoder(w)
	out.Indent("", "  ")
	if err := out.Encode(all); err != nil {
		return err
	}
	_, err := io.WriteString(w, "\n")
	return err
}

func (r Results) junitCase(c api.Case) junitCase {
	out := junitCase{
		Class: valid(cmp.Or(c.Suite, c.Unit)),
		Name:  valid(cmp.Or(c.Title(), c.Unit)),
		Time:  secondsText(c.Took),
	}
	first, _, _ := strings.Cut(c.Message, "\n")
	switch c.Status {
	case api.CaseFailed:
		lines := withMessage(c)
		if c.File != "" {
			lines = append([]string{fmt.Sprintf("%s:%d", r.short(c.File), c.Line)}, lines...)
		}
		out.Failure = &junitMessage{valid(first), "failed", valid(strings.Join(lines, "\n"))}
	case api.CaseSkipped:
		out.Skipped = &junitMessage{Message: valid(first), Type: "skipped"}
	}
	return out
}

// withMessage is a case's output, or else its message.
func withMessage(c api.Case) []string {
	if len(c.Output) > 0 {
		return c.Output
	}
	return strings.Split(c.Message, "\n")
}

// valid is text that is valid in XML (section 2.2).
func valid(text string) string {
	return strings.Map(func(r rune) rune {
		if r == '\t' || r == '\n' || r >= 0x20 && r != 0xfffe && r != 0xffff {
			return r
		}
		return -1
	}, strings.ToValidUTF8(text, "\ufffd"))
}

func secondsText(s api.Seconds) string { return fmt.Sprintf("%.3f", s.Duration().Seconds()) }

// units are the units with cases, in order.
func (r Results) units() []string {
	seen := map[string]bool{}
	var units []string
	for _, c := range r.Cases {
		if !seen[c.Unit] {
			seen[c.Unit] = true
			units = append(units, c.Unit)
		}
	}
	return units
}

// tap writes a point for each case.
func (r Results) tap(w io.Writer) error {
	escape := strings.NewReplacer(`\`, `\\`, "#", `\#`, "\n", " ")
	_, err := fmt.Fprintf(w, "TAP version 14\n1..%d\n", len(r.Cases))
	for i, c := range r.Cases {
		word, directive := "ok", ""
		switch c.Status {
		case api.CaseFailed:
			word = "not ok"
		case api.CaseSkipped:
			directive = strings.TrimRight(" # SKIP "+escape.Replace(c.Message), " ")
		}
		name := strings.Join(
			slices.DeleteFunc([]string{c.Unit, c.Suite, c.Name}, func(s string) bool { return s == "" }),
			" ",
		)
		if err == nil {
			_, err = fmt.Fprintf(w, "%s %d - %s%s\n", word, i+1, escape.Replace(name), directive)
		}
		if err == nil && c.Status == api.CaseFailed {
			_, err = io.WriteString(w, r.diagnosis(c))
		}
	}
	return err
}

// diagnosis is the YAML block after a failed point. Its values are JSON strings, which are valid YAML.
func (r Results) diagnosis(c api.Case) string {
	var b strings.Builder
	b.WriteString("  ---\n")
	add := func(name, value string) {
		if value != "" {
			text, _ := json.Marshal(value) // a string never fails
			fmt.Fprintf(&b, "  %s: %s\n", name, text)
		}
	}
	add("message", c.Message)
	add("wanted", c.Want)
	add("found", c.Got)
	if c.File != "" {
		add("file", r.short(c.File))
		fmt.Fprintf(&b, "  line: %d\n", c.Line)
	}
	fmt.Fprintf(&b, "  duration_ms: %.3f\n", float64(c.Took.Duration().Microseconds())/1000)
	b.WriteString("  ...\n")
	return b.String()
}

// sarif writes a run for each unit with findings.
func (r Results) sarif(w io.Writer) error {
	var out []*sarif.Run
	runs := map[string]*sarif.Run{}
	for _, f := range r.Findings {
		if f.Change == api.GoneFinding {
			continue
		}
		run := runs[f.Unit]
		if run == nil {
			run = &sarif.Run{Tool: sarif.Tool{Driver: sarif.Driver{Name: f.Unit}}}
			runs[f.Unit] = run
			out = append(out, run)
		}
		result := &sarif.Result{
			RuleID: cmp.Or(f.Rule, string(f.Severity)), Level: string(f.Severity),
			Message: sarif.Message{Text: strings.Join(append([]string{f.Message}, f.Notes...), "\n")},
		}
		if f.File != "" {
			physical := &sarif.Physical{Artifact: sarif.Artifact{URI: r.short(f.File)}}
			if f.Line > 0 {
				physical.Region = &sarif.Region{StartLine: f.Line, StartColumn: f.Column}
			}
			result.Locations = []sarif.Location{{Physical: physical}}
		}
		run.AddRule(result.RuleID)
		run.Results = append(run.Results, result)
	}
	return sarif.Write(w, out)
}

// line is a JSON line. Only one of these is set.
type line struct {
	Case    *api.Case    `json:"case,omitempty"`
	Finding *api.Finding `json:"finding,omitempty"`
}

// lines writes the cases, and then the findings that are not gone.
func (r Results) lines(w io.Writer) error {
	out := json.NewEncoder(w)
	out.SetEscapeHTML(false)
	for _, c := range r.Cases {
		if err := out.Encode(line{Case: &c}); err != nil {
			return err
		}
	}
	for _, f := range r.Findings {
		if f.Change == api.GoneFinding {
			continue
		}
		if err := out.Encode(line{Finding: &f}); err != nil {
			return err
		}
	}
	return nil
}
