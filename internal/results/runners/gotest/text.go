package gotest

import (
	"maps"
	"slices"
	"strings"
	"time"

	"omnivigil/internal/results"
	"omnivigil/internal/results/reason"
	"omnivigil/internal/results/source"
	"omnivigil/internal/text/lazyregexp"
)

// Text reads what go test writes for people, with -v or without. The package of tests comes only after them, so
// they are reported with an empty name first.
type Text struct {
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

// NewText returns a reader of go test that reports to sink; see NewJSON.
func NewText(sink results.Sink, f *source.Files, built func() bool) *Text {
	g := &Text{sink: sink, files: f, built: built}
	g.reset()
	return g
}

func (g *Text) reset() {
	g.active, g.verbose, g.failed, g.current, g.told = false, false, false, "", nil
	g.parents, g.logs, g.began = map[string]bool{}, map[string]*reason.Output{}, map[string]struct{}{}
	g.unsaid, g.timeout = nil, timeout{}
}

var (
	goRun     = lazyregexp.New(`^=== (RUN|PAUSE|CONT|NAME)\s+(\S*)`)
	goResult  = lazyregexp.New(`^\s*--- (PASS|FAIL|SKIP): (\S+?)(?: \((\d+\.\d+)s\)|)$`) // benchmarks have no time
	goPackage = lazyregexp.New(`^(ok  |FAIL|\?   )\t(\S+)(?:\t(\S+)|( \[.+\]))?`)
	goNoTests = lazyregexp.New(`^(---|\?   )\t\S+\t\[no test`)
)

// Read implements runners.Reader.
func (g *Text) Read(line string) (results.Mark, bool) {
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

func (g *Text) run(what, name string) {
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
func (g *Text) log(line string) (results.Mark, bool) {
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

func (g *Text) result(m []string) results.Mark {
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
func (g *Text) flush() {
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
func (g *Text) ended(m []string, line string) results.Mark {
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
func (g *Text) endUnended(folder string) {
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

// End implements runners.Reader.
func (g *Text) End(bool) { g.flush() }
