// Package preview describes what would run: what check prints of a settings file, and what a user is asked to consent
// to. It runs nothing; Cost looks at the files that would be watched.
package preview

import (
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/charmbracelet/x/ansi"

	"omnivigil/internal/output/redact"
	"omnivigil/internal/plan"
	"omnivigil/internal/session/impact"
	"omnivigil/internal/store/consent"
	"omnivigil/internal/text/escape"
	"omnivigil/internal/text/format"
	"omnivigil/internal/text/lazyregexp"
)

// Waves describes the order in which the project starts, and which units have to wait for a job.
func Waves(out io.Writer, p *plan.Plan) {
	depth, waves := map[string]int{}, [][]*plan.Unit{}
	for _, u := range p.InOrder() {
		if u.Manual {
			continue
		}
		for _, up := range slices.Concat(u.Needs, u.Follows) {
			if at, starts := depth[up]; starts {
				depth[u.Name] = max(depth[u.Name], at+1)
			}
		}
		at := depth[u.Name]
		depth[u.Name] = at
		if len(waves) <= at {
			waves = append(waves, nil)
		}
		waves[at] = append(waves[at], u)
	}
	fmt.Fprintln(out, "\nstarts in this order:")
	for i, wave := range waves {
		var names []string
		tasks := 0
		for _, u := range wave {
			names = append(names, u.Name)
			if u.Kind.Ends() {
				tasks++
			}
		}
		fmt.Fprintf(out, "  %d  %s\n", i+1, strings.Join(names, ", "))
		if p.Jobs > 0 && tasks > p.Jobs {
			fmt.Fprintf(
				out,
				"     %d of these %d tasks and suites queue at first: jobs is %d\n",
				tasks-p.Jobs,
				tasks,
				p.Jobs,
			)
		}
	}
}

// OwnInputs warns of files that a unit both watches and makes: they never count as a change.
func OwnInputs(out io.Writer, p *plan.Plan) {
	for _, u := range p.Units {
		for _, w := range u.Watch {
			for _, o := range u.Outputs {
				in, _ := doublestar.Match(w.Text, o.Text)
				around, _ := doublestar.Match(o.Text, w.Text)
				if in || around {
					fmt.Fprintf(
						out,
						"\n%s:%d: %s watches %q and makes %q itself: what it makes never counts as a change for it\n",
						p.File,
						w.Line,
						u.Name,
						w.Text,
						o.Text,
					)
				}
			}
		}
	}
}

// Cost describes what watching the project's files costs, and which rules match none.
func Cost(out io.Writer, p *plan.Plan) error {
	cost, err := impact.Look(p)
	if err != nil {
		return err
	}
	fmt.Fprintf(
		out,
		"\nwatches %s with %s; a change to %d of them has an effect; ready in %s\n",
		format.Count(
			cost.Folders,
			"directory",
		),
		format.Count(cost.Files, "file"),
		cost.Concerned,
		cost.Took.Round(time.Millisecond),
	)
	if cost.Above {
		fmt.Fprintf(out, "some patterns lead out of %s: what is outside is watched as far as they reach\n", p.Root)
	}
	for _, file := range p.MissingEnvFiles {
		fmt.Fprintf(out, "\n%s: there is no env file %s; its variables are missing until there is\n", p.File, file)
	}
	if cost.Polled > 0 {
		fmt.Fprintf(
			out,
			"looks again and again at %s that the system does not report\n",
			format.Count(cost.Polled, "directory"),
		)
	}
	for _, idle := range cost.Idle {
		why := "matches no file that is there now"
		if idle.Excluded {
			why = "matches only files that are ignored: omnivigil why tells for each by what; if version control " +
				"ignores them, gitignore = false in " + idle.Unit + " would let them count"
		}
		file := p.File
		if u := p.Unit(idle.Unit); u != nil {
			file = u.File
		}
		fmt.Fprintf(out, "\n%s:%d: %q of %s %s\n", file, idle.Pattern.Line, idle.Pattern.Text, idle.Unit, why)
	}
	return nil
}

// Describe lists the units in starting order, each with everything that it would run and open, and its rules.
func Describe(out io.Writer, p *plan.Plan) {
	width, items := 0, map[string][]consent.Item{}
	for _, u := range p.Units {
		width = max(width, len(u.Name))
	}
	for _, item := range consent.Items(p) {
		if !item.Late() { // what decides when it runs is described separately
			items[item.Unit] = append(items[item.Unit], item)
		}
	}
	for _, u := range p.InOrder() {
		indent := "\n" + strings.Repeat(" ", width+13)
		fmt.Fprintf(
			out,
			"  %-*s  %-7s  %s\n",
			width,
			u.Name,
			u.Kind,
			strings.ReplaceAll(strings.TrimSpace(doing(u)), "\n", indent),
		)
		for _, item := range items[u.Name] {
			if item.What != "is" && item.What != "runs" && item.What != "serves pages on" {
				fmt.Fprintf(out, "  %-*s           %s %s\n", width, "", item.What, item.Text)
			}
		}
		for _, fact := range facts(u) {
			fmt.Fprintf(out, "  %-*s           %s\n", width, "", fact)
		}
	}
}

// doing describes what a unit runs, or serves.
func doing(u *plan.Unit) string {
	if u.Relay != nil {
		return u.Relay.String()
	}
	return u.Run.String()
}

func patterns(ps []plan.Pattern) []string {
	out := make([]string, len(ps))
	for i, p := range ps {
		out[i] = p.Text
	}
	return out
}

func facts(u *plan.Unit) []string {
	var lines []string
	add := func(label string, names []string) {
		if len(names) > 0 {
			lines = append(lines, label+" "+strings.Join(names, ", "))
		}
	}
	add("needs", u.Needs)
	add("follows", u.Follows)
	if u.Relay != nil {
		add("waits for", u.Relay.Needs)
		add("refreshes pages for", patterns(u.Relay.Refresh))
	}
	for _, re := range u.Reactions {
		switch {
		case re.Do == plan.Nothing:
			lines = append(lines, "on "+re.When.Text+" does nothing")
		case re.Do == plan.RefreshPage:
			lines = append(lines, "on "+re.When.Text+" has its pages reloaded")
		case re.Do == plan.SwapStyle:
			lines = append(lines, "on "+re.When.Text+" has it swapped in its pages")
		case re.Do == plan.Act && re.Run == nil:
			lines = append(lines, "on "+re.When.Text+" "+u.Verb())
		}
	}
	if u.Relay == nil {
		add("watches", patterns(u.Watch))
	}
	add("ignores", patterns(u.Ignore))
	if u.Pass != nil {
		lines = append(lines, "picks up changes by itself")
	}
	if ready := readiness(u); ready != "" {
		lines = append(lines, ready)
	}
	if u.Limit > 0 {
		lines = append(lines, "is ended after "+format.Duration(u.Limit))
	}
	add("makes", patterns(u.Outputs))
	if u.Reuse {
		lines = append(lines, "is reused while nothing that it depends on has changed")
	}
	if u.Alone {
		lines = append(lines, "runs alone")
	}
	if u.Manual {
		lines = append(lines, "starts when asked for")
	}
	return lines
}

// readiness describes when a service is ready, unless that runs a command or connects: those are listed with what
// it runs and opens.
func readiness(u *plan.Unit) string {
	rd := u.Ready
	switch {
	case u.Kind != plan.Service || rd.Run != nil || rd.HTTP != "":
		return ""
	case rd.Port != 0:
		return fmt.Sprintf("ready when it listens on port %d", rd.Port)
	case rd.Line != "":
		return "ready when it prints a line like " + rd.Line
	case rd.File != "":
		return "ready when the file " + rd.File + " is new"
	case u.Pass != nil:
		return "ready after its first good pass"
	}
	return "ready when it has been running for " + format.Duration(rd.After)
}

// Consent describes everything that would run: first what is new since the last consent or unusual, then the rest.
func Consent(p *plan.Plan, answer consent.Answer) []string {
	secrets := redact.Of(p.SecretValues(os.Environ()))
	show := func(text string) string { return shortBlanks(escape.Text(secrets.String(text))) }
	fresh := map[consent.Item]bool{}
	for _, item := range answer.New {
		fresh[item] = true
	}
	var first, rest []string
	unit := "\x00"
	for _, item := range consent.Items(p) {
		isNew := answer.Known && fresh[item]
		if isNew || !answer.Known && !item.Usual {
			first = append(first, map[bool]string{true: "  + ", false: "  "}[isNew]+show(item.String()))
		}
		if item.Late() && !answer.Known { // when and how, which runs nothing by itself
			continue
		}
		if item.Unit != unit {
			unit = item.Unit
			heading := show(unit)
			if unit == "" {
				heading = "the project"
			}
			rest = append(rest, "", "  "+heading)
		}
		mark := "    "
		if isNew {
			mark = "  + "
		}
		rest = append(rest, mark+show(item.What+"  "+item.Text))
	}
	lines := []string{fmt.Sprintf("%s would run, in %s:", show(p.Name), show(p.Root))}
	switch {
	case answer.Known:
		lines = append(lines, "", "Changed since you last agreed (+ new, - gone):")
	case len(first) > 0:
		lines = append(lines, "", "In addition to the units' own commands:")
	}
	lines = append(lines, first...)
	if answer.Known {
		for _, text := range answer.Gone {
			lines = append(lines, "  - "+show(text))
		}
		return lines
	}
	return append(append(lines, "", "All of it:"), rest...)
}

// shortBlanks replaces long runs of spaces by their number, so that nothing hides after them.
func shortBlanks(text string) string {
	return manyBlanks.ReplaceAllStringFunc(
		text,
		func(blanks string) string { return fmt.Sprintf(" [%d blanks] ", len(blanks)) },
	)
}

var manyBlanks = lazyregexp.New(` {5,}`)

// Rows breaks lines into the rows that they take on a terminal of a width.
func Rows(lines []string, width int) []string {
	var rows []string
	for _, line := range lines {
		rows = append(rows, strings.Split(ansi.Hardwrap(line, width, true), "\n")...)
	}
	return rows
}
