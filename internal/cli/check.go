package cli

import (
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"omnivigil/internal/concern"
	"omnivigil/internal/plan"
)

func checkCommand(at *location) *cobra.Command {
	return &cobra.Command{
		Use:   "check",
		Short: "Read the settings file and say what is wrong, or what would run",
		Args:  cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			p, err := at.open()
			if err != nil {
				return err
			}
			fmt.Printf("%s is fine. %s would run:\n\n", p.File, p.Name)
			describe(os.Stdout, p)
			return sayCost(os.Stdout, p)
		},
	}
}

// sayCost says what watching the project's files takes, and which rules match none.
func sayCost(out io.Writer, p *plan.Plan) error {
	cost, err := concern.Look(p)
	if err != nil {
		return err
	}
	fmt.Fprintf(out, "\nwatches %s with %s, of which %d concern somebody; ready in %s\n",
		count(cost.Folders, "folder"), count(cost.Files, "file"), cost.Concerned, cost.Took.Round(time.Millisecond))
	if cost.Polled > 0 {
		fmt.Fprintf(out, "looks again and again at %s that the system does not tell of\n", count(cost.Polled, "folder"))
	}
	for _, idle := range cost.Idle {
		why := "matches no file that is there now"
		if idle.Excluded {
			why = "matches only files that are kept out: omnivigil why tells for each by what"
		}
		fmt.Fprintf(out, "\n%s:%d: %q of %s %s\n", p.File, idle.Pattern.Line, idle.Pattern.Text, idle.Unit, why)
	}
	return nil
}

func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// describe lists the units in the order in which they would start.
func describe(out io.Writer, p *plan.Plan) {
	width := 0
	for _, u := range p.Units {
		width = max(width, len(u.Name))
	}
	for _, u := range p.InOrder() {
		fmt.Fprintf(out, "  %-*s  %-7s  %s\n", width, u.Name, u.Kind, u.Run)
		for _, fact := range facts(p, u) {
			fmt.Fprintf(out, "  %-*s           %s\n", width, "", fact)
		}
	}
}

func patterns(ps []plan.Pattern) []string {
	out := make([]string, len(ps))
	for i, p := range ps {
		out[i] = p.Text
	}
	return out
}

// reacts says in words what a reaction does.
func reacts(u *plan.Unit, re plan.Reaction) string {
	switch {
	case re.Do == plan.Nothing:
		return "on " + re.When.Text + " does nothing"
	case re.Do == plan.SendSignal:
		return "on " + re.When.Text + " is sent " + re.Signal
	case re.Run != nil:
		return "on " + re.When.Text + " runs " + re.Run.String()
	}
	return "on " + re.When.Text + " " + u.Verb()
}

func facts(p *plan.Plan, u *plan.Unit) []string {
	var lines []string
	add := func(label string, names []string) {
		if len(names) > 0 {
			lines = append(lines, label+" "+strings.Join(names, ", "))
		}
	}
	if u.Dir != p.Root {
		add("in", []string{u.Dir})
	}
	add("needs", u.Needs)
	add("follows", u.Follows)
	for _, re := range u.Reactions {
		lines = append(lines, reacts(u, re))
	}
	add("watches", patterns(u.Watch))
	add("ignores", patterns(u.Ignore))
	if u.Manual {
		lines = append(lines, "starts when you ask for it")
	}
	return lines
}
