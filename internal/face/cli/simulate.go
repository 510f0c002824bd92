package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"omnivigil/internal/api/exit"
	"omnivigil/internal/engine/simulate/random"
)

// simulateCommand plays the engine against made-up projects for as long as one
// likes, or one of them with a readable account.
func simulateCommand() *cobra.Command {
	var from uint64
	var seeds, steps int
	var story bool
	c := &cobra.Command{
		Use:    "simulate",
		Short:  "Check the rules of the engine with random projects",
		Hidden: true,
		Args:   cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			played := 0
			for seed := from; seed < from+uint64(seeds) || played < steps; seed++ {
				r := random.Play(seed, story)
				played += r.Steps
				if story {
					fmt.Println(strings.Join(r.Story, "\n"))
				}
				if len(r.Broken) > 0 {
					return exit.Saying(
						exit.Failed,
						fmt.Sprintf("seed %d, %d units:\n%s", seed, r.Units, strings.Join(r.Broken, "\n")),
					)
				}
			}
			fmt.Printf("%d steps, no rule broken.\n", played)
			return nil
		},
	}
	c.Flags().Uint64Var(&from, "from", 0, "the first seed")
	c.Flags().IntVar(&seeds, "seeds", 1, "number of seeds")
	c.Flags().IntVar(&steps, "steps", 0, "number of steps, over as many seeds as needed")
	c.Flags().BoolVar(&story, "story", false, "print every event and order")
	return c
}
