package runners

import (
	"strings"

	"omnivigil/internal/results"
	"omnivigil/internal/results/source"
	"omnivigil/internal/text/lazyregexp"
)

// numbered reads runners that print a sign for each test and a numbered list of failures at the end: Mocha, RSpec,
// Jasmine, Minitest and PHPUnit. They name only failures.
type numbered struct {
	block failureBlock
	form  *numberedForm // of the runner; nil: not known yet
	list  bool          // the list has begun
	title []string      // the lines of a title that continues
	bad   bool          // a case has failed
}

// numberedForm is how a runner prints its list.
type numberedForm struct {
	begins *lazyregexp.Regexp // the line that only this runner has
	list   *lazyregexp.Regexp // the heading of the list of failures
	item   *lazyregexp.Regexp // a number and the name, in group 1
	ends   *lazyregexp.Regexp // the totals; nil: they come before the list
	loads  *lazyregexp.Regexp // names a file that could not be loaded in group 1; nil: there is no such line
	nested bool               // names continue in the next lines, up to a colon
}

var numberedForms = []numberedForm{
	{ // Mocha
		begins: lazyregexp.New(`^  \d+ passing \(\d+\w+\)$`),
		list:   lazyregexp.New(`^  \d+ failing$`),
		item:   lazyregexp.New(`^  \d+\) (\S.*)$`),
		nested: true,
	},
	{ // RSpec
		begins: lazyregexp.New(`^Failures:$`),
		list:   lazyregexp.New(`^Failures:$`),
		item:   lazyregexp.New(`^  \d+\) (\S.*)$`),
		ends:   lazyregexp.New(`^(?:No examples found\.|Finished in .* to load\)|\d+ examples?, \d+ failures?.*)$`),
		loads:  lazyregexp.New(`^An error occurred while loading (?:\./)?(\S+)\.(?: - Did you mean\?)?$`),
	},
	{ // Jasmine
		begins: lazyregexp.New(`^Randomized with seed \d+$`),
		list:   lazyregexp.New(`^Failures:$`),
		item:   lazyregexp.New(`^\d+\) (\S.*)$`),
		ends:   lazyregexp.New(`^(?:Pending:|\d+ specs?, \d+ failures?.*)$`),
	},
	{ // Minitest
		begins: lazyregexp.New(`^Run options: .*--seed \d+`),
		list:   lazyregexp.New(`^Finished in [\d.]+s, .* assertions/s\.$`),
		item:   lazyregexp.New(`^  \d+\) (Failure|Error|Skipped):$`),
		ends:   lazyregexp.New(`^\d+ runs, \d+ assertions, \d+ failures`),
		nested: true,
	},
	{ // PHPUnit
		begins: lazyregexp.New(`^PHPUnit [\d.]+ by `),
		list:   lazyregexp.New(`^There (?:was|were) \d+ (?:failures?|errors?):$`),
		item:   lazyregexp.New(`^\d+\) (\w\S*::\S.*)$`),
		ends:   lazyregexp.New(`^(?:OK \(|OK, but |FAILURES!|ERRORS!|Tests: \d+)`),
	},
}

func newNumbered(sink results.Sink, f *source.Files) *numbered {
	return &numbered{block: failureBlock{sink: sink, files: f}}
}

func (n *numbered) Read(line string) (results.Mark, bool) {
	for i := range numberedForms {
		form := &numberedForms[i]
		if n.form == nil && form.begins.MatchString(line) {
			n.form = form
			break
		}
		if form.loads == nil || n.form != nil && n.form != form {
			continue
		}
		if m := form.loads.FindStringSubmatch(line); m != nil {
			n.form, n.list, n.bad = form, true, true
			n.block.begin(m[1], "")
			return results.MarkFailure, true
		}
	}
	switch {
	case n.form == nil:
		return results.NoMark, false
	case n.form.list.MatchString(line):
		n.list = true
		return results.NoMark, true
	case n.form.ends != nil && n.form.ends.MatchString(line):
		n.ended(!someFailed.MatchString(line))
		return results.NoMark, true
	case !n.list:
		return results.NoMark, false
	}
	if m := n.form.item.FindStringSubmatch(line); m != nil {
		n.block.end()
		return n.item(m[1]), true
	}
	if len(n.title) > 0 {
		n.continueTitle(line)
		return results.NoMark, true
	}
	if n.block.c == nil {
		return results.NoMark, false
	}
	n.block.add(line)
	return results.NoMark, true
}

// item begins a failure.
func (n *numbered) item(name string) results.Mark {
	n.title = nil
	switch {
	case name == "Skipped":
		return results.NoMark
	case n.form.nested && name != "Failure" && name != "Error" && strings.HasSuffix(name, ":"):
		n.begin(strings.TrimSuffix(name, ":"))
	case n.form.nested:
		n.title = []string{name}
	default:
		n.begin(name)
	}
	return results.MarkFailure
}

var minitestName = lazyregexp.New(`^(\S+#\S+)(?: \[(.+):(\d+)\])?:$`)

// continueTitle reads a line of a title: the next part of the name, up to a colon, or of Minitest the whole name.
func (n *numbered) continueTitle(line string) {
	if m := minitestName.FindStringSubmatch(line); m != nil {
		n.title = nil
		n.begin(m[1])
		if m[2] != "" {
			n.block.c.Location = source.Place(n.block.files.Find(m[2]), m[3], "")
		}
		return
	}
	text, last := strings.CutSuffix(strings.TrimSpace(line), ":")
	if n.title = append(n.title, text); last || len(n.title) > 20 {
		n.begin(strings.Join(n.title, "/"))
		n.title = nil
	}
}

func (n *numbered) begin(name string) {
	n.bad = true
	n.block.begin("", name)
}

// someFailed matches totals with failures.
var someFailed = lazyregexp.New(`^(?:FAILURES!|ERRORS!)$|\b[1-9]\d* (?:failure|error)s?\b`)

// ended closes the run's only suite. Where the totals have failures that were not read, nothing is known of it.
func (n *numbered) ended(ok bool) {
	n.block.end()
	if ok || n.bad {
		n.block.sink.SuiteEnded(results.SuiteEnd{OK: !n.bad, OnlyFailures: true})
	}
	n.form, n.list, n.bad, n.title = nil, false, false, nil
}

func (n *numbered) End(bool) {
	if n.form != nil && (n.bad || n.form.ends == nil) { // without totals, a heading alone says nothing
		n.ended(true)
	}
}
