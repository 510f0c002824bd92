package cli

import (
	"fmt"
	"io"
	"os"
	"strings"

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
			for _, idle := range concern.Idle(p) {
				fmt.Printf("\n%s:%d: %q of %s matches no file that is there now\n", p.File, idle.Pattern.Line, idle.Pattern.Text, idle.Unit)
			}
			return nil
		},
	}
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
