package runners

import (
	"strings"

	"omnivigil/internal/results"
	"omnivigil/internal/results/reason"
	"omnivigil/internal/results/source"
	"omnivigil/internal/text/lazyregexp"
)

// surefire reads what the Surefire and Failsafe plugins of Maven print: totals for each class, failures after them
// with their stacks. They name only failures; the reports that they write name all tests.
type surefire struct {
	block  failureBlock
	on     bool
	suites suites
}

func newSurefire(sink results.Sink, f *source.Files) *surefire {
	return &surefire{block: failureBlock{sink: sink, files: f}, suites: suites{}}
}

var (
	surefireClass = lazyregexp.New(
		`^(?:\[(?:INFO|WARNING|ERROR)\] )?Tests run: \d+, Failures: (\d+), Errors: (\d+), Skipped: \d+, ` +
			`Time elapsed: [\d.,]+ s(?:ec)?(?: <<< \w+!)? --? in (\S+)$`,
	)
	// A method of a class: in version 3 class.method, before method(class).
	surefireFailure = lazyregexp.New(
		`^(?:\[ERROR\] )?(?:(\S+)\.([^\s.(]+)(?:\(.*\))?(?:\[\d+\])?(?: --)?|([^\s(]+)\((\S+)\)) +` +
			`Time elapsed: [\d.,]+ s(?:ec)? +<<< (?:FAILURE|ERROR)!$`,
	)
	surefireEnds = lazyregexp.New(`^(?:\[INFO\] )?Results:?$`)
)

// surefireReports is where both plugins write their reports, in every module.
const surefireReports = "**/target/{surefire,failsafe}-reports/TEST-*.xml"

// Reports implements Reporter.
func (s *surefire) Reports() string {
	if s.on {
		return surefireReports
	}
	return ""
}

func (s *surefire) Read(line string) (results.Mark, bool) {
	if m := surefireClass.FindStringSubmatch(line); m != nil {
		s.block.end()
		s.on = true
		if s.suites.saw(m[3], m[1] != "0" || m[2] != "0"); s.suites[m[3]] {
			return results.MarkFailure, true
		}
		return results.NoMark, true
	}
	if m := surefireFailure.FindStringSubmatch(line); m != nil {
		s.on = true
		class, method := m[1]+m[4], m[2]+m[3]
		s.suites.saw(class, true)
		s.block.begin(class, method)
		return results.MarkFailure, true
	}
	switch {
	case !s.on:
		return results.NoMark, false
	case surefireEnds.MatchString(line):
		s.ended()
		return results.NoMark, true
	case s.block.c == nil:
		return results.NoMark, false
	case line == "":
		s.block.end()
		return results.NoMark, true
	}
	s.block.add(line)
	return results.NoMark, true
}

func (s *surefire) ended() {
	s.block.end()
	s.suites.end(s.block.sink, true)
}

func (s *surefire) End(bool) { s.ended() }

// junitConsole reads what the console launcher of JUnit prints: a tree of all tests, then the failures with their
// stacks.
type junitConsole struct {
	block  failureBlock
	open   []string      // the names from the engine to the last node of the tree
	leaf   *results.Case // the last node, if it is a test unless nodes below it follow
	inTree bool
	list   bool // the list of failures has begun
	suites suites
}

func newJUnitConsole(sink results.Sink, f *source.Files) *junitConsole {
	return &junitConsole{block: failureBlock{sink: sink, files: f}, suites: suites{}}
}

var (
	// With the theme unicode a level is three columns wide, with ascii two.
	consoleNode = lazyregexp.New(
		`^(?:((?:│ {2}| {3})*)[├└]─|((?:\| | {2})*)[+']--) ` +
			`(.+?) (✔|✘|↷|■|\[OK\]|\[X\]|\[S\]|\[A\])(?: (.*))?$`,
	)
	consoleList    = lazyregexp.New(`^Failures \(\d+\):$`)
	consoleFailure = lazyregexp.New(`^  ([^\s:][^:]*(?::[^:]+)+)$`)
	consoleMessage = lazyregexp.New(`^    => (?:[\w.$]*\.)?(\w+): ?(.*)$`)
	consoleEnds    = lazyregexp.New(`^Test run finished after \d+ ms$`)
)

func (j *junitConsole) Read(line string) (results.Mark, bool) {
	switch {
	case consoleEnds.MatchString(line) && j.inTree:
		j.ended()
		return results.NoMark, true
	case consoleList.MatchString(line) && j.inTree:
		j.tellLeaf()
		j.list = true
		return results.NoMark, true
	}
	if m := consoleNode.FindStringSubmatch(line); m != nil && !j.list {
		return j.node(m), true
	}
	if !j.list {
		return results.NoMark, false
	}
	if m := consoleFailure.FindStringSubmatch(line); m != nil {
		path := strings.Split(m[1], ":")
		j.block.begin(caseOf(path[1:]))
		return results.MarkFailure, true
	}
	if m := consoleMessage.FindStringSubmatch(line); m != nil && j.block.c != nil {
		j.block.c.Message = m[2]
		if m[2] == "" {
			j.block.c.Message = m[1]
		}
		return results.NoMark, true
	}
	if j.block.c == nil {
		return results.NoMark, false
	}
	j.block.add(line)
	return results.NoMark, true
}

// caseOf returns the suite and the name of a test from the names below its engine.
func caseOf(path []string) (suite, name string) { return path[0], strings.Join(path[1:], "/") }

// node reads a node of the tree. Only the next one shows whether it is a test.
func (j *junitConsole) node(m []string) results.Mark {
	depth := len([]rune(m[1]))/3 + len(m[2])/2
	if depth > len(j.open) || depth > 50 {
		return results.NoMark
	}
	if depth < len(j.open) {
		j.tellLeaf()
	}
	j.inTree, j.leaf = true, nil
	j.open = append(j.open[:depth], m[3])
	if depth < 2 { // an engine, or a class
		return results.NoMark
	}
	c := results.Case{Status: results.Passed}
	c.Suite, c.Name = caseOf(j.open[1:])
	switch m[4] {
	case "✘", "[X]":
		c.Status, c.Message = results.Failed, m[5]
	case "↷", "[S]", "■", "[A]":
		c.Status, c.Message = results.Skipped, m[5]
	}
	if j.leaf = &c; c.Status == results.Failed {
		return results.MarkFailure
	}
	return results.NoMark
}

// tellLeaf reports the last node, which has none below it.
func (j *junitConsole) tellLeaf() {
	if c := j.leaf; c != nil {
		j.suites.saw(c.Suite, c.Status == results.Failed)
		reason.Compare(c)
		j.block.sink.Ended(*c)
	}
	j.leaf = nil
}

func (j *junitConsole) ended() {
	j.tellLeaf()
	j.block.end()
	j.suites.end(j.block.sink, false)
	j.open, j.inTree, j.list = nil, false, false
}

func (j *junitConsole) End(complete bool) {
	if complete {
		j.ended()
	}
}

// gradle reads what Gradle prints of failed tests: the class and the test, with the error and its place below. It
// names only failures; the reports that it writes name all tests.
type gradle struct {
	block  failureBlock
	built  bool // a build has ended
	suites suites
}

func newGradle(sink results.Sink, f *source.Files) *gradle {
	return &gradle{block: failureBlock{sink: sink, files: f}, suites: suites{}}
}

var (
	gradleTest  = lazyregexp.New(`^(\w[\w.$]*(?: > \w+)*) > (\S.*?) (PASSED|FAILED|SKIPPED)$`)
	gradlePlace = lazyregexp.New(`^    [\w.$]+(?:: (.*))? at (\w+\.(?:java|kt|groovy|scala)):(\d+)$`)
	gradleCount = lazyregexp.New(`^\d+ tests? completed, \d+ failed`)
	gradleEnds  = lazyregexp.New(`^BUILD (?:SUCCESSFUL|FAILED) in `)
)

// gradleReports is where Gradle writes its reports, in every project.
const gradleReports = "**/build/test-results/**/TEST-*.xml"

// Reports implements Reporter.
func (g *gradle) Reports() string {
	if g.built {
		return gradleReports
	}
	return ""
}

func (g *gradle) Read(line string) (results.Mark, bool) {
	if m := gradleTest.FindStringSubmatch(line); m != nil {
		return g.test(m), true
	}
	switch {
	case gradleEnds.MatchString(line):
		g.built = true
		g.ended()
		return results.NoMark, true
	case g.block.c == nil:
		return results.NoMark, false
	case line == "", gradleCount.MatchString(line):
		g.tell()
		return results.NoMark, true
	}
	g.block.add(line)
	return results.NoMark, true
}

func (g *gradle) test(m []string) results.Mark {
	g.tell()
	class, name := strings.ReplaceAll(m[1], " > ", "$"), m[2]
	switch m[3] {
	case "FAILED":
		g.block.begin(class, name)
		return results.MarkFailure
	case "SKIPPED":
		g.block.sink.Ended(results.Case{Suite: class, Name: name, Status: results.Skipped})
	default:
		g.block.sink.Ended(results.Case{Suite: class, Name: name, Status: results.Passed})
	}
	return results.NoMark
}

// tell reports the failure that has been read. Newer versions leave out the package of its class, which the reports
// have.
func (g *gradle) tell() {
	c := g.block.c
	if c == nil {
		return
	}
	for _, line := range c.Output {
		if m := gradlePlace.FindStringSubmatch(line); m != nil && c.Location.Line == 0 {
			c.Location = source.Place(g.block.files.Find(m[2]), m[3], "")
			c.Message = strings.TrimSpace(line)
		}
	}
	if pkg := packageOf(g.block.files, c.Location.File); pkg != "" && !strings.HasPrefix(c.Suite, pkg+".") {
		c.Suite = pkg + "." + c.Suite
	}
	g.suites.saw(c.Suite, true)
	g.block.end()
}

var packageLine = lazyregexp.New(`^\s*package\s+([\w.]+)`)

// packageOf returns the package of a file in Java or a related language; empty: it is unknown.
func packageOf(f *source.Files, file string) string {
	const within = 100 // lines of comments
	for n := 1; file != "" && n <= within; n++ {
		if m := packageLine.FindStringSubmatch(f.Line(file, n)); m != nil {
			return m[1]
		}
	}
	return ""
}

func (g *gradle) ended() {
	g.tell()
	g.suites.end(g.block.sink, true)
}

func (g *gradle) End(bool) { g.ended() }
