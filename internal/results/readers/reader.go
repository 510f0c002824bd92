// Package readers reads cases and findings from the output of tools and from their report files. A Reader takes lines
// as they come, recognizes which of the known forms the output has, and reports each case and finding to a
// results.Sink as soon as it is known.
//
// A Reader is for one goroutine. It opens only the report files that the settings name. Start reading at New; each
// form of output has its own file in packages findings and runners.
package readers

import (
	"regexp"

	"omnivigil/internal/plan"
	"omnivigil/internal/results"
	"omnivigil/internal/results/findings"
	"omnivigil/internal/results/runners"
	"omnivigil/internal/results/source"
	"omnivigil/internal/text/lazyregexp"
)

// Options are what a Reader reads.
type Options struct {
	Dir      string              // the directory that file names are relative to
	Root     string              // the project's directory, tried after that
	Results  plan.Results        // the form of cases
	Findings plan.Findings       // the form of findings
	Hide     func(string) string // masks secrets in the texts of reports; nil: there are none
}

// Reader reads the output of one run. It is for one goroutine.
type Reader struct {
	sink     results.Sink
	files    *source.Files
	cases    []runners.Reader
	findings *findings.Reader // nil: findings are not read
	reports  bool             // cases are in files, so it matters whether there was nothing to do
	upToDate bool             // the output shows that there was nothing to do
}

// New returns a reader that reports to sink.
func New(o Options, sink results.Sink) *Reader {
	counting := &counter{Sink: sink}
	sink = counting
	r := &Reader{sink: sink, files: source.New(o.Dir, o.Root), reports: o.Results.JUnit != ""}
	switch f := o.Findings; {
	case f.Off || f.SARIF != "":
	case f.Pattern != "":
		r.findings = findings.New(sink, r.files, regexp.MustCompile(f.Pattern)) // plan.Read has compiled it before
	default:
		r.findings = findings.New(sink, r.files, nil)
	}
	other := func(line string) results.Mark {
		if r.findings == nil {
			return results.NoMark
		}
		return r.findings.Read(line)
	}
	r.cases = runners.Of(o.Results.Form, sink, r.files, other, counting.some)
	return r
}

// counter counts the errors that findings report.
type counter struct {
	results.Sink
	errors int
}

func (c *counter) Found(f results.Finding) {
	if f.Severity == results.Error {
		c.errors++
	}
	c.Sink.Found(f)
}

func (c *counter) some() bool { return c.errors > 0 }

// Read reads the next line, without colors and line end, and returns its meaning.
func (r *Reader) Read(line string) results.Mark {
	if r.reports && !r.upToDate {
		r.upToDate = nothingToDo.MatchString(line)
	}
	if len(line) > results.LongestLine {
		line = line[:results.LongestLine]
	}
	for i, c := range r.cases {
		mark, taken := c.Read(line)
		if !taken {
			continue
		}
		if i > 0 { // most output has only one form
			copy(r.cases[1:i+1], r.cases[:i])
			r.cases[0] = c
		}
		if r.findings != nil {
			r.findings.Interrupt()
		}
		return mark
	}
	if r.findings == nil {
		return results.NoMark
	}
	return r.findings.Read(line)
}

// Skip passes over complete lines, as a process has written them but without colors, if none of them has a meaning. It
// is fast. It returns false if they have to be read; then nothing has changed.
func (r *Reader) Skip(block []byte) bool {
	return len(r.cases) == 0 && !(r.reports && !r.upToDate && nothingToDo.Match(block)) &&
		(r.findings == nil || r.findings.Skip(block))
}

// nothingToDo is how build tools report that they have not run something because its result exists.
var nothingToDo = lazyregexp.New(
	`(?i)\b(up[- ]to[- ]date|from[- ]cache|no work to do|nothing to be done|cache hit|local cache|remote cache)\b` +
		`|\(cached\)`,
)

// knownReports returns the pattern of the JUnit XML that the runner is known to write, which was recognized by its
// output; empty: it is known of none.
func (r *Reader) knownReports() string {
	for _, c := range r.cases {
		if reporter, is := c.(runners.Reporter); is && reporter.Reports() != "" {
			return reporter.Reports()
		}
	}
	return ""
}

// End reports what is known only at the end of the output. Complete: the run was not stopped, so what is missing has
// failed.
func (r *Reader) End(complete bool) {
	for _, c := range r.cases {
		c.End(complete)
	}
	if r.findings != nil {
		r.findings.End()
	}
}
