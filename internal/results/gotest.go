package results

import (
	"cmp"
	"encoding/json"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"
)

// goJSON reads go test -json, whose form is told by go doc test2json and, for what builds
// write, by go help buildjson.
type goJSON struct {
	sink  Sink
	files *sourceFiles
	other func(line string) Mark // reads what a build says
	open  map[caseKey]*goCase
	seen  map[string]*goSuite
}

// caseKey is what tells cases of a run apart.
type caseKey struct{ suite, name string }

// goCase is a test that has begun.
type goCase struct {
	output      output
	children    bool
	childFailed bool
	logged      bool // it has said something itself
}

// goSuite is what is known of a package.
type goSuite struct {
	output output // of the package itself
	failed bool   // one of its cases has
	cached bool
}

func newGoJSON(sink Sink, f *sourceFiles, other func(string) Mark) *goJSON {
	return &goJSON{sink: sink, files: f, other: other, open: map[caseKey]*goCase{}, seen: map[string]*goSuite{}}
}

// goEvent is a line of it.
type goEvent struct {
	Action, Package, Test, Output, ImportPath, FailedBuild string
	Elapsed                                                float64
}

func (g *goJSON) read(line string) (Mark, bool) {
	if !strings.HasPrefix(line, `{"`) || !strings.Contains(line, `"Action":"`) {
		return NoMark, false
	}
	var ev goEvent
	if json.Unmarshal([]byte(line), &ev) != nil || ev.Package == "" && ev.ImportPath == "" {
		return NoMark, false
	}
	switch ev.Action {
	case "build-output":
		return g.other(strings.TrimRight(ev.Output, "\n")), true
	case "build-fail":
		return MarkFailure, true
	case "run":
		g.begin(ev)
	case "output":
		g.write(ev)
	case "pass", "fail", "skip":
		return g.ended(ev), true
	}
	return NoMark, true
}

// maxOpen bounds how many tests may be under way, so that no output fills the memory.
const maxOpen = 100_000

func (g *goJSON) begin(ev goEvent) {
	if len(g.open) >= maxOpen {
		return
	}
	g.open[caseKey{ev.Package, ev.Test}] = &goCase{}
	if parent := g.open[caseKey{ev.Package, parentOf(ev.Test)}]; parent != nil {
		parent.children = true
	}
	g.sink.Began(ev.Package, ev.Test)
}

// parentOf returns the test that a subtest is of.
func parentOf(name string) string {
	i := strings.LastIndexByte(name, '/')
	return name[:max(i, 0)]
}

func (g *goJSON) suite(name string) *goSuite {
	if g.seen[name] == nil {
		g.seen[name] = &goSuite{}
	}
	return g.seen[name]
}

func (g *goJSON) write(ev goEvent) {
	text := strings.TrimRight(ev.Output, "\n")
	if ev.Test == "" {
		s := g.suite(ev.Package)
		s.output.add(text)
		s.cached = s.cached || strings.HasSuffix(text, "\t(cached)")
		return
	}
	if c := g.open[caseKey{ev.Package, ev.Test}]; c != nil && !goFraming.MatchString(text) {
		c.output.add(text)
		c.logged = c.logged || goLog.MatchString(text) || goPanic.MatchString(text)
	}
}

// goFraming is what package testing writes around what tests log.
var goFraming = regexp.MustCompile(`^\s*(=== (RUN|PAUSE|CONT|NAME)\s|--- (PASS|FAIL|SKIP|BENCH): )`)

func (g *goJSON) ended(ev goEvent) Mark {
	status := map[string]Status{"pass": Passed, "fail": Failed, "skip": Skipped}[ev.Action]
	if ev.Test == "" {
		return g.suiteEnded(ev, status)
	}
	key := caseKey{ev.Package, ev.Test}
	c := g.open[key]
	if c == nil {
		c = &goCase{}
	}
	delete(g.open, key)
	if parent := g.open[caseKey{ev.Package, parentOf(ev.Test)}]; parent != nil && status == Failed {
		parent.childFailed = true
	}
	if c.children && (status != Failed || c.childFailed && !c.logged) {
		return NoMark // its subtests tell
	}
	out := Case{Suite: ev.Package, Name: ev.Test, Status: status, Took: seconds(ev.Elapsed), Output: c.output}
	mark := NoMark
	if status == Failed {
		g.suite(ev.Package).failed = true
		out.explain(g.files, g.files.packageFolder(ev.Package))
		mark = MarkFailure
	} else if status == Skipped {
		out.explain(g.files)
	}
	g.sink.Ended(out)
	return mark
}

// suiteEnded closes a package. What it has begun and not ended has failed: it was killed, or
// the test has ended the process.
func (g *goJSON) suiteEnded(ev goEvent, status Status) Mark {
	s := g.suite(ev.Package)
	delete(g.seen, ev.Package)
	for _, key := range g.unended() {
		c := g.open[key]
		if key.suite != ev.Package {
			continue
		}
		delete(g.open, key)
		if status == Failed && !c.children {
			s.failed = true
			out := Case{Suite: key.suite, Name: key.name, Status: Failed, Output: append(c.output, s.output...)}
			out.explain(g.files, g.files.packageFolder(ev.Package))
			if out.Message == "" {
				out.Message = unended
			}
			g.sink.Ended(out)
		}
	}
	broken := status == Failed && !s.failed
	if broken {
		g.sink.Ended(brokenSuite(g.files, ev.Package, s.output))
	}
	g.sink.SuiteEnded(SuiteEnd{Suite: ev.Package, OK: status != Failed, Cached: s.cached, Broken: broken})
	if status == Failed {
		return MarkFailure
	}
	return NoMark
}

// unended returns the tests that have begun and not ended, in an order that is always the same.
func (g *goJSON) unended() []caseKey {
	return slices.SortedFunc(maps.Keys(g.open), func(a, b caseKey) int {
		return cmp.Or(strings.Compare(a.suite, b.suite), strings.Compare(a.name, b.name))
	})
}

// brokenSuite is a package as a case, of which no test has failed, but it has.
func brokenSuite(f *sourceFiles, pkg string, out output) Case {
	c := Case{Suite: pkg, Status: Failed, Output: out}
	c.explain(f, f.packageFolder(pkg))
	for _, line := range out {
		if m := goBroken.FindStringSubmatch(line); m != nil {
			c.Message = m[1]
		}
	}
	if strings.HasPrefix(c.Message, "FAIL") || c.Message == "" {
		c.Message = "the package failed, but none of its tests"
	}
	return c
}

var goBroken = regexp.MustCompile(`^FAIL\t\S+ \[((?:build|setup) failed)\]$`)

// end closes what was under way when the output ended.
func (g *goJSON) end(complete bool) {
	if !complete {
		return
	}
	for _, key := range g.unended() {
		if c := g.open[key]; !c.children {
			g.sink.Ended(Case{Suite: key.suite, Name: key.name, Status: Failed, Message: unended, Output: c.output})
		}
	}
}

// unended is the message of a case that has begun and not ended.
const unended = "it did not end"

func seconds(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }

// goText reads what go test writes for people, with -v or without. Which package the tests are
// of it says only behind them, so they are told with an empty one first.
type goText struct {
	sink    Sink
	files   *sourceFiles
	active  bool // within the output of a test binary
	verbose bool
	failed  bool                // a case of the package under way has
	parents map[string]bool     // tests of it that have subtests
	logs    map[string]*output  // what tests have written, by name
	current string              // the test that writes
	told    *Case               // a failed one, whose output goes on
	began   map[string]struct{} // and have not ended
	unsaid  []Case              // that failed, and whose places are known when the package is
}

func newGoText(sink Sink, f *sourceFiles) *goText {
	g := &goText{sink: sink, files: f}
	g.reset()
	return g
}

func (g *goText) reset() {
	g.active, g.verbose, g.failed, g.current, g.told = false, false, false, "", nil
	g.parents, g.logs, g.began = map[string]bool{}, map[string]*output{}, map[string]struct{}{}
	g.unsaid = nil
}

var (
	goRun     = regexp.MustCompile(`^=== (RUN|PAUSE|CONT|NAME)\s+(\S*)`)
	goResult  = regexp.MustCompile(`^\s*--- (PASS|FAIL|SKIP): (\S+) \((\d+\.\d+)s\)$`)
	goPackage = regexp.MustCompile(`^(ok  |FAIL|\?   )\t(\S+)(?:\t(\S+)|( \[.+\]))?`)
	goNoTests = regexp.MustCompile(`^(---|\?   )\t\S+\t\[no test`)
)

func (g *goText) read(line string) (Mark, bool) {
	switch {
	case line == "":
		return NoMark, g.active && g.told != nil
	case line[0] == '=':
		if m := goRun.FindStringSubmatch(line); m != nil {
			g.run(m[1], m[2])
			return NoMark, true
		}
	case strings.Contains(line, "--- "):
		if m := goResult.FindStringSubmatch(line); m != nil {
			return g.result(m), true
		}
	case strings.HasPrefix(line, "ok  \t"), strings.HasPrefix(line, "FAIL\t"), strings.HasPrefix(line, "?   \t"):
		if m := goPackage.FindStringSubmatch(line); m != nil && !goNoTests.MatchString(line) {
			return g.ended(m, line), true
		}
	case line == "PASS" || line == "FAIL" || strings.HasPrefix(line, "exit status "):
		return NoMark, g.active
	}
	if !g.active {
		return NoMark, false
	}
	return g.log(line)
}

func (g *goText) run(what, name string) {
	g.flush()
	g.active, g.verbose, g.current = true, true, name
	if what == "PAUSE" {
		g.current = ""
	}
	if what == "RUN" {
		g.parents[parentOf(name)] = true
		g.began[name] = struct{}{}
		g.sink.Began("", name)
	}
}

// log keeps a line that a test has written.
func (g *goText) log(line string) (Mark, bool) {
	switch {
	case g.told != nil:
		(*output)(&g.told.Output).add(line)
	case g.current != "" && len(g.logs) < maxOpen:
		if g.logs[g.current] == nil {
			g.logs[g.current] = &output{}
		}
		g.logs[g.current].add(line)
	default:
		return NoMark, false
	}
	return NoMark, true
}

func (g *goText) result(m []string) Mark {
	name := m[2]
	g.parents[parentOf(name)] = true
	if g.told != nil && parentOf(name) == g.told.Name && len(g.told.Output) == 0 {
		g.told = nil // its subtests tell
	}
	g.flush()
	g.active, g.current = true, ""
	delete(g.began, name)
	took, _ := time.ParseDuration(m[3] + "s")
	c := Case{Name: name, Status: map[string]Status{"PASS": Passed, "FAIL": Failed, "SKIP": Skipped}[m[1]], Took: took}
	if log := g.logs[name]; log != nil {
		c.Output = *log
		delete(g.logs, name)
	}
	switch {
	case c.Status == Failed:
		g.failed = true
		if g.parents[name] && len(c.Output) == 0 {
			return NoMark
		}
		g.told = &c // its output may follow
		return MarkFailure
	case !g.parents[name]:
		g.told = &c
	}
	return NoMark
}

// flush tells the case whose output has ended.
func (g *goText) flush() {
	if c := g.told; c != nil {
		if g.told = nil; c.Status != Passed {
			c.explain(g.files)
		}
		if g.sink.Ended(*c); c.Status == Failed {
			g.unsaid = append(g.unsaid, *c)
		}
	}
}

// ended closes a package.
func (g *goText) ended(m []string, line string) Mark {
	pkg, ok := m[2], m[1] != "FAIL"
	folder := g.files.packageFolder(pkg)
	g.flush()
	for _, c := range g.unsaid {
		c.explain(g.files, folder)
		g.sink.Ended(c)
	}
	end := SuiteEnd{Suite: pkg, OK: ok, Cached: m[3] == "(cached)", OnlyFailures: !g.verbose, Unnamed: true}
	if !ok {
		for _, name := range slices.Sorted(maps.Keys(g.began)) {
			if g.parents[name] {
				continue
			}
			c := Case{Name: name, Status: Failed}
			if log := g.logs[name]; log != nil {
				c.Output = *log
			}
			if c.explain(g.files, folder); c.Message == "" {
				c.Message = unended
			}
			g.sink.Ended(c)
			g.failed = true
		}
		if end.Broken = !g.failed; end.Broken {
			var all output
			for _, log := range g.logs {
				all = append(all, *log...)
			}
			g.sink.Ended(brokenSuite(g.files, pkg, append(all, line)))
		}
	}
	g.sink.SuiteEnded(end)
	g.reset()
	if !ok {
		return MarkFailure
	}
	return NoMark
}

func (g *goText) end(bool) { g.flush() }
