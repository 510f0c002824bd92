package runners

import (
	"cmp"
	"encoding/json"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/results"
	"omnivigil/internal/results/reason"
	"omnivigil/internal/results/source"
	"omnivigil/internal/text/location"
)

// goJSON reads go test -json, as described by go doc test2json and, for the output of builds, by go help buildjson.
type goJSON struct {
	sink  results.Sink
	files *source.Files
	other func(line string) results.Mark // reads the output of builds
	built func() bool                    // reports whether an error of a build has been reported
	open  map[api.CaseName]*goCase
	seen  map[string]*goSuite
}

// goCase is a test that has begun.
type goCase struct {
	output      reason.Output
	children    bool
	childFailed bool
	logged      bool // it has logged something itself
}

// goSuite is what is known of a package.
type goSuite struct {
	output  reason.Output // of the package itself
	failed  bool          // one of its cases has failed
	cached  bool
	timeout timeout
}

func newGoJSON(
	sink results.Sink, f *source.Files, other func(string) results.Mark, built func() bool,
) *goJSON {
	return &goJSON{sink: sink, files: f, other: other, built: built, open: map[api.CaseName]*goCase{},
		seen: map[string]*goSuite{}}
}

// goEvent is one line.
type goEvent struct {
	Action, Package, Test, Output, ImportPath, FailedBuild string
	Elapsed                                                float64
}

func (g *goJSON) Read(line string) (results.Mark, bool) {
	if !strings.HasPrefix(line, `{"`) || !strings.Contains(line, `"Action":"`) {
		return results.NoMark, false
	}
	var ev goEvent
	if json.Unmarshal([]byte(line), &ev) != nil || ev.Package == "" && ev.ImportPath == "" {
		return results.NoMark, false
	}
	switch ev.Action {
	case "build-output":
		return g.other(strings.TrimRight(ev.Output, "\n")), true
	case "run":
		g.begin(ev)
	case "output":
		return g.write(ev), true // what follows from it prints nothing that could be marked
	case "pass", "fail", "skip", "bench":
		g.ended(ev)
	}
	return results.NoMark, true
}

// maxOpen limits the tests in progress, so that no output fills the memory.
const maxOpen = 100_000

func (g *goJSON) begin(ev goEvent) {
	if len(g.open) >= maxOpen {
		return
	}
	g.open[api.CaseName{Suite: ev.Package, Name: ev.Test}] = &goCase{}
	if parent := g.open[api.CaseName{Suite: ev.Package, Name: parentOf(ev.Test)}]; parent != nil {
		parent.children = true
	}
	g.sink.Began(ev.Package, ev.Test)
}

// parentOf returns the parent of a subtest.
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

func (g *goJSON) write(ev goEvent) (mark results.Mark) {
	text := strings.TrimRight(ev.Output, "\n")
	if strings.HasPrefix(text, "FAIL\t") || strings.HasPrefix(strings.TrimLeft(text, " "), "--- FAIL: ") {
		mark = results.MarkFailure
	}
	s := g.suite(ev.Package)
	s.timeout.read(text)
	if ev.Test == "" {
		s.output.Add(text)
		s.cached = s.cached || strings.HasSuffix(text, "\t(cached)")
		return mark
	}
	if c := g.open[api.CaseName{Suite: ev.Package, Name: ev.Test}]; c != nil && !isGoFraming(text) {
		c.output.Add(text)
		c.logged = c.logged || reason.GoLog.MatchString(text) || reason.GoPanic.MatchString(text)
	}
	return mark
}

// goFraming matches what package testing writes around the logs of tests.
var goFraming = regexp.MustCompile(`^\s*(=== (RUN|PAUSE|CONT|NAME)\s|--- (PASS|FAIL|SKIP|BENCH): )`)

func isGoFraming(text string) bool {
	return (strings.Contains(text, "=== ") || strings.Contains(text, "--- ")) && goFraming.MatchString(text)
}

func (g *goJSON) ended(ev goEvent) {
	status := map[string]results.Status{"pass": results.Passed, "bench": results.Passed,
		"fail": results.Failed, "skip": results.Skipped}[ev.Action]
	if ev.Test == "" {
		g.suiteEnded(ev, status)
		return
	}
	key := api.CaseName{Suite: ev.Package, Name: ev.Test}
	c := g.open[key]
	if c == nil {
		c = &goCase{}
	}
	delete(g.open, key)
	if parent := g.open[api.CaseName{Suite: ev.Package, Name: parentOf(ev.Test)}]; parent != nil &&
		status == results.Failed {
		parent.childFailed = true
	}
	if c.children && (status != results.Failed || c.childFailed && !c.logged) {
		return // its subtests are reported
	}
	out := results.Case{Suite: ev.Package, Name: ev.Test, Status: status, Took: seconds(ev.Elapsed), Output: c.output}
	if status == results.Failed {
		g.suite(ev.Package).failed = true
		reason.Explain(&out, g.files, g.files.PackageFolder(ev.Package))
	} else if status == results.Skipped {
		reason.Explain(&out, g.files)
	}
	g.sink.Ended(out)
}

// suiteEnded closes a package. What has begun and not ended has failed: it was killed, or the test has ended the
// process.
func (g *goJSON) suiteEnded(ev goEvent, status results.Status) {
	s := g.suite(ev.Package)
	delete(g.seen, ev.Package)
	g.endUnended(ev.Package, s, status == results.Failed)
	broken := status == results.Failed && !s.failed
	if broken {
		brokenSuite(g.sink, g.files, ev.Package, s.output, g.built())
	}
	g.sink.SuiteEnded(results.SuiteEnd{Suite: ev.Package, OK: status != results.Failed, Cached: s.cached,
		Broken: broken})
}

// endUnended closes the tests of a package that have begun and not ended. Benchmarks that pass end without a word.
func (g *goJSON) endUnended(pkg string, s *goSuite, failed bool) {
	for _, key := range g.unended() {
		c := g.open[key]
		if key.Suite != pkg {
			continue
		}
		delete(g.open, key)
		late := slices.Contains(s.timeout.running, key.Name)
		if !failed || c.children && !late || isBenchmark(key.Name) && !late && !panicked(c.output) {
			continue
		}
		s.failed = true
		out := results.Case{Suite: key.Suite, Name: key.Name, Status: results.Failed,
			Output: append(c.output, s.output...)}
		reason.Explain(&out, g.files, g.files.PackageFolder(pkg))
		s.timeout.explain(&out, g.files)
		g.sink.Ended(out)
	}
}

func panicked(lines []string) bool { return slices.ContainsFunc(lines, reason.GoPanic.MatchString) }

// unended returns the tests that have begun and not ended, in a stable order.
func (g *goJSON) unended() []api.CaseName {
	return slices.SortedFunc(maps.Keys(g.open), func(a, b api.CaseName) int {
		return cmp.Or(strings.Compare(a.Suite, b.Suite), strings.Compare(a.Name, b.Name))
	})
}

// brokenSuite reports a package that failed without a failed test. Where errors of the build have been reported,
// they say it better.
func brokenSuite(sink results.Sink, f *source.Files, pkg string, out reason.Output, built bool) {
	c := results.Case{Suite: pkg, Status: results.Failed, Output: out}
	reason.Explain(&c, f, f.PackageFolder(pkg))
	for _, line := range out {
		if m := goBroken.FindStringSubmatch(line); m != nil {
			if built {
				return
			}
			c.Message = m[1]
		}
	}
	if strings.HasPrefix(c.Message, "FAIL") || c.Message == "" {
		c.Message = "the package failed, but none of its tests"
	}
	sink.Ended(c)
}

var goBroken = regexp.MustCompile(`^FAIL\t\S+ \[((?:build|setup) failed)\]$`)

// end closes what was in progress when the output ended.
func (g *goJSON) End(complete bool) {
	if !complete {
		return
	}
	for _, key := range g.unended() {
		if c := g.open[key]; !c.children {
			g.sink.Ended(results.Case{Suite: key.Suite, Name: key.Name, Status: results.Failed, Message: unended,
				Output: c.output})
		}
	}
}

// unended is the message of a case that has begun and not ended.
const unended = "it did not end"

func seconds(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }

// goText reads what go test writes for people, with -v or without. The package of tests comes only after them, so
// they are reported with an empty name first.
type goText struct {
	sink    results.Sink
	files   *source.Files
	active  bool // in the output of a test binary
	verbose bool
	failed  bool                      // a case of the current package has failed
	parents map[string]bool           // tests of it that have subtests
	logs    map[string]*reason.Output // the logs of tests, by name
	current string                    // the test that is logging
	told    *results.Case             // a failed test whose output continues
	began   map[string]struct{}       // and have not ended
	timeout timeout
	built   func() bool    // reports whether an error of a build has been reported
	unsaid  []results.Case // failed tests whose files are known when the package is
}

func newGoText(sink results.Sink, f *source.Files, built func() bool) *goText {
	g := &goText{sink: sink, files: f, built: built}
	g.reset()
	return g
}

func (g *goText) reset() {
	g.active, g.verbose, g.failed, g.current, g.told = false, false, false, "", nil
	g.parents, g.logs, g.began = map[string]bool{}, map[string]*reason.Output{}, map[string]struct{}{}
	g.unsaid, g.timeout = nil, timeout{}
}

var (
	goRun     = regexp.MustCompile(`^=== (RUN|PAUSE|CONT|NAME)\s+(\S*)`)
	goResult  = regexp.MustCompile(`^\s*--- (PASS|FAIL|SKIP): (\S+?)(?: \((\d+\.\d+)s\)|)$`) // benchmarks have no time
	goPackage = regexp.MustCompile(`^(ok  |FAIL|\?   )\t(\S+)(?:\t(\S+)|( \[.+\]))?`)
	goNoTests = regexp.MustCompile(`^(---|\?   )\t\S+\t\[no test`)
)

func (g *goText) Read(line string) (results.Mark, bool) {
	switch {
	case line == "":
		return results.NoMark, g.active && g.told != nil
	case line[0] == '=':
		if m := goRun.FindStringSubmatch(line); m != nil {
			g.run(m[1], m[2])
			return results.NoMark, true
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
		return results.NoMark, g.active
	}
	if g.timeout.read(line) {
		g.active = true
		return results.MarkFailure, true
	}
	if !g.active {
		return results.NoMark, false
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

// log keeps a line of a test's log.
func (g *goText) log(line string) (results.Mark, bool) {
	switch {
	case g.told != nil:
		(*reason.Output)(&g.told.Output).Add(line)
	case g.current != "" && len(g.logs) < maxOpen:
		if g.logs[g.current] == nil {
			g.logs[g.current] = &reason.Output{}
		}
		g.logs[g.current].Add(line)
	default:
		return results.NoMark, false
	}
	return results.NoMark, true
}

func (g *goText) result(m []string) results.Mark {
	name := m[2]
	g.parents[parentOf(name)] = true
	if g.told != nil && parentOf(name) == g.told.Name && len(g.told.Output) == 0 {
		g.told = nil // its subtests are reported
	}
	g.flush()
	g.active, g.current = true, ""
	delete(g.began, name)
	took, _ := time.ParseDuration(m[3] + "s")
	c := results.Case{Name: name, Status: map[string]results.Status{"PASS": results.Passed, "FAIL": results.Failed,
		"SKIP": results.Skipped}[m[1]], Took: took}
	if log := g.logs[name]; log != nil {
		c.Output = *log
		delete(g.logs, name)
	}
	switch {
	case c.Status == results.Failed:
		g.failed = true
		if g.parents[name] && len(c.Output) == 0 {
			return results.NoMark
		}
		g.told = &c // its output may follow
		return results.MarkFailure
	case !g.parents[name]:
		g.told = &c
	}
	return results.NoMark
}

// flush reports the failed case when its output has ended.
func (g *goText) flush() {
	if c := g.told; c != nil {
		if g.told = nil; c.Status != results.Passed {
			reason.Explain(c, g.files)
		}
		if g.sink.Ended(*c); c.Status == results.Failed {
			g.unsaid = append(g.unsaid, *c)
		}
	}
}

// ended closes a package.
func (g *goText) ended(m []string, line string) results.Mark {
	pkg, ok := m[2], m[1] != "FAIL"
	folder := g.files.PackageFolder(pkg)
	g.flush()
	for _, c := range g.unsaid {
		reason.Explain(&c, g.files, folder)
		g.sink.Ended(c)
	}
	end := results.SuiteEnd{Suite: pkg, OK: ok, Cached: m[3] == "(cached)", OnlyFailures: !g.verbose, Unnamed: true}
	if !ok {
		g.endUnended(folder)
		if end.Broken = !g.failed; end.Broken {
			var all reason.Output
			for _, log := range g.logs {
				all = append(all, *log...)
			}
			brokenSuite(g.sink, g.files, pkg, append(all, line), g.built())
		}
	}
	g.sink.SuiteEnded(end)
	g.reset()
	if !ok {
		return results.MarkFailure
	}
	return results.NoMark
}

// endUnended reports the tests that have begun and not ended: they have failed.
func (g *goText) endUnended(folder string) {
	for _, name := range g.timeout.running { // without -v, only the list of a timeout names them
		g.began[name] = struct{}{}
	}
	for _, name := range slices.Sorted(maps.Keys(g.began)) {
		if g.parents[name] || isBenchmark(name) && !slices.Contains(g.timeout.running, name) {
			continue
		}
		c := results.Case{Name: name, Status: results.Failed}
		if log := g.logs[name]; log != nil {
			c.Output = *log
		}
		reason.Explain(&c, g.files, folder)
		g.timeout.explain(&c, g.files)
		g.sink.Ended(c)
		g.failed = true
	}
}

func (g *goText) End(bool) { g.flush() }

// isBenchmark reports whether a test is a benchmark, whose end package testing reports only if it fails.
func isBenchmark(name string) bool { return strings.HasPrefix(name, "Benchmark") }

// timeout reads what package testing prints when a test binary runs longer than -timeout: the tests that were running
// and the stacks of all goroutines.
type timeout struct {
	message string
	running []string
	listing bool
	stacks  reason.Output
}

var (
	goTimeout = regexp.MustCompile(`^panic: (test timed out after \S+)$`)
	goRunning = regexp.MustCompile(`^\t\t(\S+) \([^)]+\)$`)
)

// read reports whether a line belongs to it.
func (t *timeout) read(line string) bool {
	if m := goTimeout.FindStringSubmatch(line); m != nil {
		t.message = m[1]
		return true
	}
	if t.message == "" {
		return false
	}
	if m := goRunning.FindStringSubmatch(line); t.listing && m != nil {
		t.running = slices.DeleteFunc(t.running, func(name string) bool { return name == parentOf(m[1]) })
		t.running = append(t.running, m[1])
		return true
	}
	if t.listing = line == "\trunning tests:"; !t.listing {
		t.stacks.Add(line)
	}
	return true
}

// explain adds to a case that has not ended why it did not.
func (t *timeout) explain(c *results.Case, f *source.Files) {
	switch {
	case t.message == "" || !slices.Contains(t.running, c.Name):
		c.Message = cmp.Or(c.Message, unended)
	default:
		c.Message = t.message
		c.Location = t.placeOf(c.Name, f)
	}
}

// placeOf returns the location of the innermost call in a file of the user, in the goroutine of a test.
func (t *timeout) placeOf(name string, f *source.Files) location.Location {
	begin := 0
	for i, line := range t.stacks {
		if strings.HasPrefix(line, "goroutine ") {
			begin = i
		}
		// The call of the test's function ends the user's part of its stack.
		if function, _, _ := strings.Cut(name, "/"); strings.Contains(line, "."+function+"(") ||
			strings.Contains(line, "."+function+".func") {
			return reason.FirstOwn(f, t.stacks[begin:min(i+2, len(t.stacks))])
		}
	}
	return location.Location{}
}
