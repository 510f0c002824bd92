package cli

import (
	"github.com/spf13/cobra"

	"omnivigil/internal/face/client"
	"omnivigil/internal/plan/settings"
)

func schemaCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "schema",
		Short: "Print the JSON Schema of omnivigil.toml for editors",
		Args:  cobra.NoArgs,
		RunE:  func(*cobra.Command, []string) error { return client.PrintJSON(settings.Schema()) },
	}
}
