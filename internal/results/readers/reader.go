// Package readers reads cases and findings from what tools print and from the report files that they leave. A Reader
// takes lines as they come, recognizes which of the known forms the output has, and reports each case and finding to
// a results.Sink as soon as it is known.
//
// A Reader is for one goroutine. It opens files only to find those that are named. Start reading at New; each form
// has a file of its own.
package readers

import (
	"regexp"
	"strings"

	"omnivigil/internal/plan"
	"omnivigil/internal/results"
	"omnivigil/internal/results/findings"
	"omnivigil/internal/results/source"
)

// caseReader reads one form of test results. Read reports whether the line is of that form,
// so that no other need look at it.
type caseReader interface {
	read(line string) (mark results.Mark, taken bool)
	// end says what is known only now. Complete says that the run has not been stopped, so that
	// what did not come has failed.
	end(complete bool)
}

// Options say what a Reader looks for.
type Options struct {
	Dir      string              // the folder that names of files are relative to
	Root     string              // the project's, tried after that
	Results  plan.Results        // the form of cases
	Findings plan.Findings       // the form of findings
	Hide     func(string) string // hides secrets in the texts of reports; nil: there are none
}

// Reader reads the output of one run. It is for one goroutine.
type Reader struct {
	sink     results.Sink
	files    *source.Files
	cases    []caseReader
	findings *findings.Reader // nil where none are looked for
	reports  bool             // cases are in files, so that it matters whether there was something to do
	upToDate bool
}

// New returns a reader that tells sink what it finds.
func New(o Options, sink results.Sink) *Reader {
	r := &Reader{sink: sink, files: source.New(o.Dir, o.Root), reports: o.Results.JUnit != ""}
	switch f := o.Findings; {
	case f.Off || f.SARIF != "":
	case f.Pattern != "":
		r.findings = findings.New(sink, r.files, regexp.MustCompile(f.Pattern)) // plan.Read has seen that it compiles
	default:
		r.findings = findings.New(sink, r.files, nil)
	}
	other := func(line string) results.Mark {
		if r.findings == nil {
			return results.NoMark
		}
		return r.findings.Read(line)
	}
	switch o.Results.Form {
	case plan.ResultsAuto:
		r.cases = []caseReader{
			newGoJSON(sink, r.files, other),
			newGoText(sink, r.files),
			newTAP(sink, r.files),
			newSpec(sink, r.files),
			newLibtest(sink, r.files),
		}
	case plan.ResultsGoJSON:
		r.cases = []caseReader{newGoJSON(sink, r.files, other)}
	case plan.ResultsTAP:
		r.cases = []caseReader{newTAP(sink, r.files)}
	case plan.ResultsLibtest:
		r.cases = []caseReader{newLibtest(sink, r.files)}
	}
	return r
}

// Read takes the next line, without colors and end, and says what it means.
func (r *Reader) Read(line string) results.Mark {
	if r.reports && !r.upToDate {
		r.upToDate = nothingToDo.MatchString(line)
	}
	if len(line) > results.LongestLine {
		line = line[:results.LongestLine]
	}
	for i, c := range r.cases {
		mark, taken := c.read(line)
		if !taken {
			continue
		}
		if i > 0 { // most output has one form
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

// MayMatter reports whether whole lines, as a process has written them, have to be read. It is
// quick, and errs on the side of yes.
func (r *Reader) MayMatter(block []byte) bool {
	return len(r.cases) > 0 || r.reports && !r.upToDate && nothingToDo.Match(block) ||
		r.findings != nil && r.findings.MayMatter(block)
}

// nothingToDo is how build tools say that they have not run what was asked for, because its result is there.
var nothingToDo = regexp.MustCompile(
	`(?i)\b(up[- ]to[- ]date|from[- ]cache|no work to do|nothing to be done|cache hit|local cache|remote cache)\b` +
		`|\(cached\)`,
)

// UpToDate reports whether the output of a unit whose cases are in files says that nothing had to be done.
func (r *Reader) UpToDate() bool { return r.upToDate }

// Skip has the reader go past lines that do not matter.
func (r *Reader) Skip(block []byte) {
	if r.findings != nil {
		r.findings.Skip(block)
	}
}

// End says what is known only when the output has ended. Complete says that the run has ended by
// itself: then what was to come and did not has failed.
func (r *Reader) End(complete bool) {
	for _, c := range r.cases {
		c.end(complete)
	}
	if r.findings != nil {
		r.findings.End()
	}
}

// output keeps what a case has written, as far as that is bounded.
type output []string

func (o *output) add(line string) {
	if len(*o) < results.MaxOutput {
		line = strings.TrimRight(line, "\r\n")
		*o = append(*o, line[:min(len(line), results.MaxKept)])
	}
}
