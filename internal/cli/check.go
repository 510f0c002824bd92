package cli

import (
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

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
	add("watches", u.Watch)
	if u.Manual {
		lines = append(lines, "starts when you ask for it")
	}
	return lines
}
