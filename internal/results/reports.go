package results

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/joshdk/go-junit"
	"github.com/owenrumney/go-sarif/v3/pkg/report/v210/sarif"

	"omnivigil/internal/regular"
)

// reportFiles returns the files of a pattern that are newer than a run's beginning.
func reportFiles(o Options, pattern string, since time.Time) ([]string, error) {
	if !filepath.IsAbs(pattern) {
		pattern = filepath.Join(o.Dir, filepath.FromSlash(pattern))
	}
	found, err := doublestar.FilepathGlob(pattern, doublestar.WithFilesOnly())
	if err != nil {
		return nil, err
	}
	var fresh []string
	for _, file := range found {
		// File systems keep times more coarsely than clocks.
		if info, err := os.Stat(file); err == nil && info.ModTime().After(since.Add(-10*time.Millisecond)) {
			fresh = append(fresh, file)
		}
	}
	return fresh, nil
}

// mostReport is how large a report file may be.
const mostReport = 256 << 20

// ReadReports reads what a run that began at that time has left in the files that the settings
// name, and tells sink. It blocks while it reads. It returns the newest of the files; the error
// says which file could not be read, or that there is none.
func ReadReports(o Options, since time.Time, sink Sink) error {
	for _, form := range []struct {
		pattern, what string
		read          func([]byte, *files, Sink) error
	}{{o.Results.JUnit, "JUnit XML", readJUnit}, {o.Findings.SARIF, "SARIF", readSARIF}} {
		if form.pattern == "" {
			continue
		}
		found, err := reportFiles(o, form.pattern, since)
		if err != nil {
			return fmt.Errorf("look for %s at %s: %w", form.what, form.pattern, err)
		}
		if len(found) == 0 {
			return fmt.Errorf("the run has written no %s at %s", form.what, form.pattern)
		}
		for _, file := range found {
			data, err := regular.Read(file, mostReport)
			if o.Hide != nil {
				data = []byte(o.Hide(string(data)))
			}
			if err == nil {
				err = form.read(data, newFiles(o.Dir, o.Root), sink)
			}
			if err != nil {
				return fmt.Errorf("read %s: %w", form.what, err)
			}
		}
	}
	return nil
}

// readJUnit reads JUnit XML, in the shapes that github.com/joshdk/go-junit knows.
func readJUnit(data []byte, f *files, sink Sink) error {
	suites, err := junit.Ingest(data)
	if err != nil {
		return err
	}
	for i := range suites {
		tellSuite(&suites[i], f, sink)
	}
	return nil
}

func tellSuite(s *junit.Suite, f *files, sink Sink) {
	names := map[string]bool{}
	for _, t := range s.Tests {
		c := Case{Suite: t.Classname, Name: t.Name, Took: t.Duration}
		if c.Suite == "" {
			c.Suite = s.Name
		}
		switch t.Status {
		case junit.StatusPassed:
			c.Status = Passed
		case junit.StatusSkipped:
			c.Status, c.Message = Skipped, t.Message
		default:
			c.Status = Failed
			text := t.Message
			if t.Error != nil {
				text = t.Error.Error()
			}
			c.Output = outputOf(text, t.SystemOut, t.SystemErr)
			c.explain(f)
			if t.Message != "" {
				c.Message = t.Message
				c.compare()
			}
			if c.Place.Line == 0 {
				c.Place = Place{File: f.find(t.Properties["file"]), Line: number(t.Properties["line"])}
			}
		}
		names[c.Suite] = true
		sink.Ended(c)
	}
	for _, name := range slices.Sorted(maps.Keys(names)) {
		sink.SuiteEnded(SuiteEnd{Suite: name, OK: s.Totals.Failed+s.Totals.Error == 0})
	}
	for i := range s.Suites {
		tellSuite(&s.Suites[i], f, sink)
	}
}

func outputOf(texts ...string) output {
	var o output
	for _, text := range texts {
		if strings.TrimSpace(text) != "" {
			for line := range strings.SplitSeq(strings.TrimSpace(text), "\n") {
				o.add(line)
			}
		}
	}
	return o
}

// readSARIF reads SARIF 2.1.0.
func readSARIF(data []byte, f *files, sink Sink) error {
	log, err := sarif.FromBytes(data)
	if err != nil {
		return err
	}
	for _, run := range log.Runs {
		if run == nil {
			continue
		}
		for _, r := range run.Results {
			if r != nil && r.Kind != "pass" && r.Kind != "notApplicable" && len(r.Suppressions) == 0 {
				sink.Found(sarifFinding(run, r, f))
			}
		}
	}
	return nil
}

func sarifFinding(run *sarif.Run, r *sarif.Result, f *files) Finding {
	found := Finding{Severity: Warning, Rule: text(r.RuleID)}
	switch r.Level { // section 3.27.10; where it is missing it is that of the rule
	case "error":
		found.Severity = Error
	case "note", "none":
		found.Severity = Note
	case "":
		if rule := ruleOf(run, r); rule != nil && rule.DefaultConfiguration != nil {
			found.Severity = severityOf(rule.DefaultConfiguration.Level)
		}
	}
	if r.Message != nil {
		found.Message, _, _ = strings.Cut(strings.TrimSpace(text(r.Message.Text)), "\n")
	}
	for _, l := range r.Locations {
		if l == nil || l.PhysicalLocation == nil || l.PhysicalLocation.ArtifactLocation == nil {
			continue
		}
		found.File = f.find(text(l.PhysicalLocation.ArtifactLocation.URI))
		if at := l.PhysicalLocation.Region; at != nil {
			found.Line, found.Column = whole(at.StartLine), whole(at.StartColumn)
		}
		break
	}
	return found
}

func ruleOf(run *sarif.Run, r *sarif.Result) *sarif.ReportingDescriptor {
	if run.Tool == nil || run.Tool.Driver == nil {
		return nil
	}
	for _, rule := range run.Tool.Driver.Rules {
		if rule != nil && text(rule.ID) == text(r.RuleID) {
			return rule
		}
	}
	return nil
}

func text(s *string) string {
	if s == nil {
		return ""
	}
	return *s
}

func whole(n *int) int {
	if n == nil {
		return 0
	}
	return *n
}
