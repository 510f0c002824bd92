// Package gotest reads what go test prints: as JSON (go doc test2json), or for people. A reader is for one goroutine.
// Start reading at NewJSON and NewText.
package gotest

import (
	"cmp"
	"encoding/json"
	"maps"
	"slices"
	"strings"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/results"
	"omnivigil/internal/results/reason"
	"omnivigil/internal/results/source"
	"omnivigil/internal/text/lazyregexp"
)

// JSON reads go test -json, as described by go doc test2json and, for the output of builds, by go help buildjson.
type JSON struct {
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

// NewJSON returns a reader of go test -json that reports to sink. Other reads the output of builds; built reports
// whether an error of a build has been reported.
func NewJSON(
	sink results.Sink, f *source.Files, other func(string) results.Mark, built func() bool,
) *JSON {
	return &JSON{sink: sink, files: f, other: other, built: built, open: map[api.CaseName]*goCase{},
		seen: map[string]*goSuite{}}
}

// goEvent is one line.
type goEvent struct {
	Action, Package, Test, Output, ImportPath, FailedBuild string
	Elapsed                                                float64
}

// Read implements runners.Reader.
func (g *JSON) Read(line string) (results.Mark, bool) {
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

func (g *JSON) begin(ev goEvent) {
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

func (g *JSON) suite(name string) *goSuite {
	if g.seen[name] == nil {
		g.seen[name] = &goSuite{}
	}
	return g.seen[name]
}

func (g *JSON) write(ev goEvent) (mark results.Mark) {
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
var goFraming = lazyregexp.New(`^\s*(=== (RUN|PAUSE|CONT|NAME)\s|--- (PASS|FAIL|SKIP|BENCH): )`)

func isGoFraming(text string) bool {
	return (strings.Contains(text, "=== ") || strings.Contains(text, "--- ")) && goFraming.MatchString(text)
}

func (g *JSON) ended(ev goEvent) {
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
func (g *JSON) suiteEnded(ev goEvent, status results.Status) {
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
func (g *JSON) endUnended(pkg string, s *goSuite, failed bool) {
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
func (g *JSON) unended() []api.CaseName {
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

var goBroken = lazyregexp.New(`^FAIL\t\S+ \[((?:build|setup) failed)\]$`)

// End implements runners.Reader: it closes what was in progress when the output ended.
func (g *JSON) End(complete bool) {
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
