package cli

import (
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"omnivigil/internal/api/exit"
	"omnivigil/internal/engine/recording"
)

// replayCommand replays a recording of "start --record".
func replayCommand() *cobra.Command {
	return &cobra.Command{
		Use:    "replay FILE",
		Short:  "Replay a recording and print the resulting orders",
		Hidden: true,
		Args:   cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			f, err := os.Open(args[0])
			if err != nil {
				return exit.Refuse("omnivigil: open the recording: %v", err)
			}
			defer f.Close()
			err = recording.Replay(f, func(step recording.Played) {
				fmt.Println(step.At.Format("15:04:05.000"), step.Event)
				for _, o := range step.Orders {
					fmt.Println("    ->", o)
				}
			})
			if err != nil {
				return exit.Saying(exit.Failed, fmt.Sprintf("omnivigil: replay %s: %v", args[0], err))
			}
			return nil
		},
	}
}
