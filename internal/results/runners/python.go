package runners

import (
	"strings"

	"omnivigil/internal/results"
	"omnivigil/internal/results/reason"
	"omnivigil/internal/results/source"
	"omnivigil/internal/text/lazyregexp"
)

// pytest reads what pytest writes to a terminal: with -v a line for each test, then the failures in sections, and a
// summary that names them by their file.
type pytest struct {
	sink    results.Sink
	files   *source.Files
	on      bool
	verbose bool
	section string                   // the heading of the current section
	heard   map[string]*results.Case // failures by the name in their section's heading
	current string
	suites  suites
}

func newPytest(sink results.Sink, f *source.Files) *pytest {
	return &pytest{sink: sink, files: f, heard: map[string]*results.Case{}, suites: suites{}}
}

var (
	pytestSection = lazyregexp.New(`^={3,} (.+?) ={3,}$`)
	pytestTitle   = lazyregexp.New(`^_{3,} (.+?) _{3,}$`)
	pytestTotals  = lazyregexp.New(`^(?:\d+ \w+(?:, )?)+ in [\d.]+s`)
	pytestTest    = lazyregexp.New(
		`^(\S+\.py)::(\S.*?) (PASSED|FAILED|ERROR|SKIPPED|XFAIL|XPASS)(?: \((.*)\))?(?:\s+\[ *\d+%\])?$`,
	)
	pytestNamed = lazyregexp.New(`^(FAILED|ERROR) (\S+?\.py)(?:::(\S+))?(?: - (.*))?$`)
	pytestFile  = lazyregexp.New(`^(\S+\.py) [.FEsxX]+(?: +\[ *\d+%\])?$`)
	pytestPlace = lazyregexp.New(`^(\S+\.py):(\d+): ?(?:in .*|\w*)$`)
	pytestError = lazyregexp.New(`^E {3}(.*)$`)
)

func (p *pytest) Read(line string) (results.Mark, bool) {
	if m := pytestSection.FindStringSubmatch(line); m != nil {
		return p.begin(m[1])
	}
	if !p.on {
		return results.NoMark, false
	}
	if pytestTotals.MatchString(line) { // with -q
		p.ended()
		return results.NoMark, true
	}
	switch p.section {
	case "FAILURES", "ERRORS":
		if m := pytestTitle.FindStringSubmatch(line); m != nil {
			p.current = m[1]
			p.heard[m[1]] = &results.Case{Status: results.Failed}
			return results.MarkFailure, true
		}
		p.keep(line)
		return results.NoMark, true
	case "short test summary info":
		if m := pytestNamed.FindStringSubmatch(line); m != nil {
			p.report(m)
			return results.MarkFailure, true
		}
	default:
		if m := pytestTest.FindStringSubmatch(line); m != nil {
			return p.test(m), true
		}
		if m := pytestFile.FindStringSubmatch(line); m != nil {
			p.suites.saw(m[1], false)
		}
	}
	return results.NoMark, false
}

// begin begins a section, if the output is of pytest.
func (p *pytest) begin(section string) (results.Mark, bool) {
	switch {
	case section == "test session starts", section == "FAILURES", section == "ERRORS":
		p.on = true
	case !p.on:
		return results.NoMark, false
	case pytestTotals.MatchString(section):
		p.ended()
		return results.NoMark, true
	}
	p.section, p.current = section, ""
	return results.NoMark, true
}

// keep keeps a line about the current failure.
func (p *pytest) keep(line string) {
	c := p.heard[p.current]
	if c == nil {
		return
	}
	(*reason.Output)(&c.Output).Add(line)
	if m := pytestError.FindStringSubmatch(line); m != nil {
		c.Message = strings.TrimSpace(c.Message + "\n" + strings.TrimSpace(m[1]))
	}
	if m := pytestPlace.FindStringSubmatch(line); m != nil && p.files.Own(m[1]) {
		c.Location = source.Place(p.files.Find(m[1]), m[2], "") // the innermost call is the last one
	}
}

// test reports a test of -v. A failed one is reported with its reason by the summary.
func (p *pytest) test(m []string) results.Mark {
	p.verbose = true
	c := results.Case{Suite: m[1], Name: m[2], Message: m[4]}
	switch m[3] {
	case "PASSED", "XPASS":
		c.Status, c.Message = results.Passed, ""
	case "SKIPPED", "XFAIL":
		c.Status = results.Skipped
	default:
		c.Status = results.Failed
	}
	p.suites.saw(c.Suite, c.Status == results.Failed)
	p.sink.Ended(c)
	if c.Status == results.Failed {
		return results.MarkFailure
	}
	return results.NoMark
}

// report reports a failure that the summary names.
func (p *pytest) report(m []string) {
	p.suites.saw(m[2], true)
	c := &results.Case{Status: results.Failed}
	dotted := strings.ReplaceAll(m[3], "::", ".")
	for _, title := range []string{dotted, "ERROR at setup of " + dotted, "ERROR at teardown of " + dotted,
		"ERROR collecting " + m[2]} {
		if known := p.heard[title]; known != nil {
			c = known
			break
		}
	}
	c.Suite, c.Name = m[2], m[3]
	if c.Message == "" {
		c.Message = m[4]
	}
	reason.Compare(c)
	p.sink.Ended(*c)
}

func (p *pytest) ended() {
	p.suites.end(p.sink, !p.verbose)
	p.on, p.verbose, p.section = false, false, ""
	p.heard = map[string]*results.Case{}
}

func (p *pytest) End(bool) {
	if p.on {
		p.ended()
	}
}

// unittest reads what Python's unittest writes: with -v a line for each test, then the failures.
type unittest struct {
	block   failureBlock
	on      bool
	verbose bool
	ruled   bool // the line before is a rule, which begins a failure
	suites  suites
}

func newUnittest(sink results.Sink, f *source.Files) *unittest {
	return &unittest{block: failureBlock{sink: sink, files: f}, suites: suites{}}
}

var (
	unittestTitle = lazyregexp.New(`^(?:ERROR|FAIL): (\S+) \((\S+?)\)`)
	unittestTest  = lazyregexp.New(
		`^(\w+) \((\S+)\)(?: \.\.\.|.* \.\.\.) (ok|FAIL|ERROR|skipped ['"](.*)['"]|expected failure|unexpected success)$`,
	)
	unittestRan = lazyregexp.New(`^Ran \d+ tests? in [\d.]+s$`)
)

func (u *unittest) Read(line string) (results.Mark, bool) {
	ruled := u.ruled
	u.ruled = strings.HasPrefix(line, "======") && strings.Trim(line, "=") == ""
	if m := unittestTitle.FindStringSubmatch(line); m != nil && ruled {
		u.on = true
		u.tell()
		u.block.begin(suiteOf(m[1], m[2]), m[1])
		u.suites.saw(u.block.c.Suite, true)
		return results.MarkFailure, true
	}
	switch {
	case unittestRan.MatchString(line):
		u.on = true
		u.ended()
		return results.NoMark, true
	case u.block.c != nil:
		if !u.ruled && !strings.HasPrefix(line, "------") {
			u.block.add(line)
		}
		return results.NoMark, true
	}
	m := unittestTest.FindStringSubmatch(line)
	if m == nil {
		return results.NoMark, false
	}
	u.on, u.verbose = true, true
	c := results.Case{Suite: suiteOf(m[1], m[2]), Name: m[1], Status: results.Passed, Message: m[4]}
	switch {
	case m[3] == "FAIL", m[3] == "ERROR", m[3] == "unexpected success":
		c.Status = results.Failed
	case m[3] != "ok":
		c.Status = results.Skipped
	}
	u.suites.saw(c.Suite, c.Status == results.Failed)
	u.block.sink.Ended(c)
	if c.Status == results.Failed {
		return results.MarkFailure, true
	}
	return results.NoMark, true
}

// suiteOf returns the class of a test; newer versions add the test's own name.
func suiteOf(name, path string) string { return strings.TrimSuffix(path, "."+name) }

// tell reports the failure whose traceback has been read: the reason is its last line.
func (u *unittest) tell() {
	if c := u.block.c; c != nil {
		c.Message, c.Location = reason.LastLine(c.Output), reason.LastOwn(u.block.files, c.Output)
		u.block.end()
	}
}

func (u *unittest) ended() {
	u.tell()
	u.suites.end(u.block.sink, !u.verbose)
	u.on, u.verbose = false, false
}

func (u *unittest) End(bool) {
	if u.on {
		u.ended()
	}
}
