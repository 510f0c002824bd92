package cli

import (
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/spf13/cobra"

	"omnivigil/internal/api/exit"
	"omnivigil/internal/output/redact"
	"omnivigil/internal/plan"
	"omnivigil/internal/session/impact"
	"omnivigil/internal/store/consent"
	"omnivigil/internal/text/escape"
	"omnivigil/internal/text/format"
)

func checkCommand(at *location) *cobra.Command {
	keys := false
	c := &cobra.Command{
		Use:   "check",
		Short: "Check the settings file and show what would run",
		Long: `Check the project's settings file and your personal file. Print what is wrong with
them, or what would run and in which order. Nothing is run.`,
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			if keys {
				sayKeys(os.Stdout)
				return nil
			}
			p, err := at.open()
			if err != nil {
				return err
			}
			out := &strings.Builder{}
			fmt.Fprintf(out, "%s is fine. %s would run:\n\n", p.File, p.Name)
			describe(out, p)
			sayWaves(out, p)
			sayOwnInputs(out, p)
			if err := sayCost(out, p); err != nil {
				return err
			}
			fine := checkPersonal(out)
			secrets := redact.Of(p.SecretValues(os.Environ()))
			fmt.Print(escape.Lines(secrets.String(out.String())))
			if !fine {
				return exit.Quietly(exit.Usage)
			}
			return nil
		},
	}
	c.Flags().BoolVar(
		&keys,
		"keys",
		false,
		"list the actions that [keys] in your personal file can name, with their keys",
	)
	return c
}

// sayWaves says in which order the project starts, and who has to wait for a job.
func sayWaves(out io.Writer, p *plan.Plan) {
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

// sayOwnInputs warns of what a unit watches and makes itself: that never counts as a change.
func sayOwnInputs(out io.Writer, p *plan.Plan) {
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

// sayCost says what watching the project's files takes, and which rules match none.
func sayCost(out io.Writer, p *plan.Plan) error {
	cost, err := impact.Look(p)
	if err != nil {
		return err
	}
	fmt.Fprintf(
		out,
		"\nwatches %s with %s; a change to %d of them has an effect; ready in %s\n",
		format.Count(
			cost.Folders,
			"folder",
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
			"looks again and again at %s that the system does not tell of\n",
			format.Count(cost.Polled, "folder"),
		)
	}
	for _, idle := range cost.Idle {
		why := "matches no file that is there now"
		if idle.Excluded {
			why = "matches only files that are ignored: omnivigil why tells for each by what"
		}
		fmt.Fprintf(out, "\n%s:%d: %q of %s %s\n", p.File, idle.Pattern.Line, idle.Pattern.Text, idle.Unit, why)
	}
	return nil
}

// describe lists the units in the order in which they would start, each with all that it
// would run and open, and its rules.
func describe(out io.Writer, p *plan.Plan) {
	width, items := 0, map[string][]consent.Item{}
	for _, u := range p.Units {
		width = max(width, len(u.Name))
	}
	for _, item := range consent.Items(p) {
		if !item.Late() { // what decides when it runs is told in words of its own
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

// doing is what a unit runs, or serves.
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
		lines = append(lines, "takes up changes by itself")
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
