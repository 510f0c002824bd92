package cli

import (
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"omnivigil/internal/api/exit"
	"omnivigil/internal/face/cli/location"
	"omnivigil/internal/face/cli/personal"
	"omnivigil/internal/face/cli/preview"
	"omnivigil/internal/output/redact"
	"omnivigil/internal/text/escape"
	"omnivigil/internal/text/format"
)

func checkCommand(at *location.Location) *cobra.Command {
	keys := false
	c := &cobra.Command{
		Use:   "check",
		Short: "Check the settings file and show what would run",
		Long: `Check the project's settings file and your personal file. Print what is wrong with
them, or what would run and in which order. Nothing is run.`,
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			if keys {
				personal.SayKeys(os.Stdout)
				return nil
			}
			p, err := at.Open()
			if err != nil {
				return err
			}
			out := &strings.Builder{}
			with := ""
			if len(p.Members) > 0 {
				with = ", with " + format.Count(len(p.Members), "member")
			}
			fmt.Fprintf(out, "%s is fine%s. %s would run:\n\n", p.File, with, p.Name)
			preview.Describe(out, p)
			preview.Waves(out, p)
			preview.OwnInputs(out, p)
			if err := preview.Cost(out, p); err != nil {
				return err
			}
			fine := personal.Check(out)
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
