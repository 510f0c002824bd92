package readers

import (
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"omnivigil/internal/files"
	"omnivigil/internal/results"
	"omnivigil/internal/results/reason"
	"omnivigil/internal/results/sarif"
	"omnivigil/internal/results/source"
)

// reportFiles returns the files of a pattern, relative to a directory, that are newer than a run's start, and the
// number of older ones.
func reportFiles(dir, pattern string, since time.Time) (fresh []string, older int, err error) {
	if !filepath.IsAbs(pattern) {
		pattern = filepath.Join(dir, filepath.FromSlash(pattern))
	}
	found, err := doublestar.FilepathGlob(pattern, doublestar.WithFilesOnly())
	if err != nil {
		return nil, 0, err
	}
	for _, file := range found {
		// File times are coarser than clocks.
		if info, err := os.Stat(file); err == nil && info.ModTime().After(since.Add(-10*time.Millisecond)) {
			fresh = append(fresh, file)
		} else {
			older++
		}
	}
	return fresh, older, nil
}

// ReadCases reads the reports of test results of a run that began at a time, and reports to sink. It blocks while it
// reads. The error tells that no report is newer than the run, or which one cannot be read: the run's cases are
// unknown then. If the run's output shows that there was nothing to do, older reports are valid: nothing is reported,
// and kept says so.
//
// If the settings name no report, those that the runner is known to write are read, if there are some that are newer.
func ReadCases(o Options, since time.Time, output *Reader, sink results.Sink) (kept string, err error) {
	pattern := o.Results.JUnit
	if pattern == "" {
		readKnown(o, since, output.knownReports(), sink)
		return "", nil
	}
	found, older, err := reportFiles(o.Root, pattern, since)
	switch {
	case err != nil:
		return "", fmt.Errorf("look for its report at %s: %w", pattern, err)
	case len(found) == 0 && older > 0 && output.upToDate:
		return "its report at " + pattern + " is from an earlier run: the output says that nothing had to be done", nil
	case len(found) == 0:
		if beside, _, err := reportFiles(o.Dir, pattern, since); err == nil && len(beside) > 0 && o.Dir != o.Root {
			if rel, err := filepath.Rel(o.Root, o.Dir); err == nil {
				return "", fmt.Errorf(
					"its report was not written at %s, relative to the settings file; there is one in %s: write "+
						"results = \"junit:%s\"",
					pattern,
					rel,
					filepath.ToSlash(filepath.Join(rel, pattern)),
				)
			}
		}
		return "", fmt.Errorf("its report was not written: there is no file newer than the run at %s", pattern)
	}
	for _, file := range found {
		if err := readCasesOf(o, file, sink); err != nil {
			return "", fmt.Errorf("its report %s cannot be read: %w", file, err)
		}
	}
	return "", nil
}

// readKnown reads the reports that a runner has written without being told to. One that cannot be read tells no more
// than the output.
func readKnown(o Options, since time.Time, pattern string, sink results.Sink) {
	if pattern == "" {
		return
	}
	found, _, _ := reportFiles(o.Dir, pattern, since) // the pattern is our own
	for _, file := range found {
		_ = readCasesOf(o, file, sink)
	}
}

func readCasesOf(o Options, file string, sink results.Sink) error {
	hide := o.Hide
	if hide == nil {
		hide = func(text string) string { return text }
	}
	return readFile(file, func(in io.Reader) error {
		return readJUnit(in, source.New(o.Dir, o.Root), hide, sink)
	})
}

// readFile reads a regular file that is not too large.
func readFile(file string, read func(io.Reader) error) error {
	f, err := files.Open(file)
	if err != nil {
		return err
	}
	defer f.Close()
	if info, err := f.Stat(); err == nil && info.Size() > results.MaxReport {
		return fmt.Errorf("it has %d bytes, and no more than %d are read", info.Size(), results.MaxReport)
	}
	return read(io.LimitReader(f, results.MaxReport))
}

// ReadFindings reads the SARIF files of a run that began at a time, and reports to sink. It blocks while it reads.
// The error tells which file could not be read, or that there is none.
func ReadFindings(o Options, since time.Time, sink results.Sink) error {
	pattern := o.Findings.SARIF
	if pattern == "" {
		return nil
	}
	found, _, err := reportFiles(o.Root, pattern, since)
	if err == nil && len(found) == 0 {
		found, _, err = reportFiles(o.Dir, pattern, since)
	}
	switch {
	case err != nil:
		return fmt.Errorf("look for SARIF at %s: %w", pattern, err)
	case len(found) == 0:
		return fmt.Errorf("the run has written no SARIF at %s", pattern)
	}
	for _, file := range found {
		data, err := files.Read(file, results.MaxReport)
		if o.Hide != nil {
			data = []byte(o.Hide(string(data)))
		}
		if err == nil {
			err = readSARIF(data, source.New(o.Dir, o.Root), sink)
		}
		if err != nil {
			return fmt.Errorf("read SARIF: %w", err)
		}
	}
	return nil
}

func sorted(names map[string]bool) []string { return slices.Sorted(maps.Keys(names)) }

func outputOf(texts ...string) reason.Output {
	var o reason.Output
	for _, text := range texts {
		if strings.TrimSpace(text) != "" {
			for line := range strings.SplitSeq(strings.TrimSpace(text), "\n") {
				o.Add(line)
			}
		}
	}
	return o
}

// readSARIF reads SARIF 2.1.0.
func readSARIF(data []byte, f *source.Files, sink results.Sink) error {
	log, err := sarif.Read(data)
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

func sarifFinding(run *sarif.Run, r *sarif.Result, f *source.Files) results.Finding {
	found := results.Finding{Severity: results.Warning, Rule: r.RuleID}
	switch level := run.Level(r); level {
	case "": // section 3.27.10: the default is a warning
	case "none":
		found.Severity = results.Note
	default:
		found.Severity = results.SeverityOf(level)
	}
	found.Message, _, _ = strings.Cut(strings.TrimSpace(r.Message.Text), "\n")
	for _, l := range r.Locations {
		if l.Physical == nil || l.Physical.Artifact.URI == "" {
			continue
		}
		found.File = f.Find(l.Physical.Artifact.URI)
		if at := l.Physical.Region; at != nil {
			found.Line, found.Column = max(at.StartLine, 0), max(at.StartColumn, 0)
		}
		break
	}
	return found
}
