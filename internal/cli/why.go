package cli

import (
	"fmt"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"omnivigil/internal/concern"
	"omnivigil/internal/visible"
)

func whyCommand(at *location) *cobra.Command {
	return &cobra.Command{
		Use:   "why PATH...",
		Short: "Say what a save of each path would set off, by which rule, or what ignores it",
		Args:  cobra.MinimumNArgs(1),
		RunE: func(_ *cobra.Command, paths []string) error {
			p, err := at.open()
			if err != nil {
				return err
			}
			for _, path := range paths {
				abs, err := filepath.Abs(path)
				if err != nil {
					return refuse("omnivigil: %v", err)
				}
				fmt.Println(visible.Lines(strings.Join(concern.Why(p, abs).Lines(), "\n")))
			}
			return nil
		},
	}
}
