package runners

import (
	"strings"
	"time"

	"omnivigil/internal/results"
	"omnivigil/internal/results/source"
	"omnivigil/internal/text/lazyregexp"
)

// playwright reads what Playwright's test runner prints: with the reporter list a line for each test, with the
// reporters list, line and dot a block for each failure, and totals.
type playwright struct {
	block  failureBlock
	on     bool
	listed bool
	suites suites
}

func newPlaywright(sink results.Sink, f *source.Files) *playwright {
	return &playwright{block: failureBlock{sink: sink, files: f}, suites: suites{}}
}

var (
	playwrightBegins = lazyregexp.New(`^Running \d+ tests? using \d+ workers?(?:, shard \d+ of \d+)?$`)
	playwrightTest   = lazyregexp.New(
		`^  ([✓✘-]|ok|x) +\d+ (?:(\[[^\]]+\]) › )?(\S+):\d+:\d+ › (.+?)(?: \((\d[\d.]*(?:ms|s|m))\))?$`,
	)
	playwrightFailure = lazyregexp.New(`^  \d+\) (?:(\[[^\]]+\]) › )?(\S+):(\d+):(\d+) › (.+?) *─*$`)
	playwrightRetry   = lazyregexp.New(` \(retry #\d+\)$`)
	playwrightEnds    = lazyregexp.New(`^  \d+ (?:failed|flaky|interrupted|skipped|did not run|passed)\b`)
)

func (p *playwright) Read(line string) (results.Mark, bool) {
	switch {
	case playwrightBegins.MatchString(line):
		p.on = true
		return results.NoMark, true
	case !p.on:
		return results.NoMark, false
	case playwrightEnds.MatchString(line):
		p.ended()
		return results.NoMark, true
	}
	if m := playwrightTest.FindStringSubmatch(line); m != nil {
		return p.test(m), true
	}
	if m := playwrightFailure.FindStringSubmatch(line); m != nil {
		p.suites.saw(m[2], true)
		p.block.begin(m[2], playwrightName(m[1], m[5]))
		return results.MarkFailure, true
	}
	if p.block.c == nil {
		return results.NoMark, false
	}
	p.block.add(line)
	return results.NoMark, true
}

// playwrightName returns the name of a test within its file: its browser, the groups that contain it, and its title.
func playwrightName(browser, title string) string {
	name := strings.ReplaceAll(playwrightRetry.ReplaceAllString(title, ""), " › ", "/")
	if browser != "" {
		name = browser + "/" + name
	}
	return name
}

func (p *playwright) test(m []string) results.Mark {
	p.listed = true
	took, _ := time.ParseDuration(m[5])
	c := results.Case{Suite: m[3], Name: playwrightName(m[2], m[4]), Took: took, Status: results.Failed}
	switch m[1] {
	case "✓", "ok":
		c.Status = results.Passed
	case "-":
		c.Status = results.Skipped
	}
	p.suites.saw(c.Suite, c.Status == results.Failed)
	p.block.sink.Ended(c)
	if c.Status == results.Failed {
		return results.MarkFailure
	}
	return results.NoMark
}

func (p *playwright) ended() {
	p.block.end()
	p.suites.end(p.block.sink, !p.listed)
	p.on, p.listed = false, false
}

func (p *playwright) End(bool) { p.block.end() }
