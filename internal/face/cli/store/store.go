// Package store is the command that shows the size of the store of contents, and clears it.
package store

import (
	"fmt"

	"github.com/spf13/cobra"

	"omnivigil/internal/api/exit"
	"omnivigil/internal/face/client"
	"omnivigil/internal/store/contents"
	"omnivigil/internal/supervisor"
	"omnivigil/internal/text/format"
)

// Command returns the command.
func Command() *cobra.Command {
	all, asJSON := false, false
	c := &cobra.Command{
		Use:   "store",
		Short: "Show the size of the store of contents, or clear it",
		Long: `The store has the outputs of tasks with reuse = true, to restore them when their inputs
are as they were, and the contents of changed files, to show what changed. It is shared
by all of your projects. Its limits are in your personal settings: store = { size = "4 GB",
age = "30 days" }; what was not used for the longest time is deleted first.`,
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			s, limits := supervisor.Store()
			do, done := s.Usage, fmt.Sprintf(" of %s", format.Bytes(float64(limits.Size)))
			if all {
				do, done = s.Clear, " deleted"
			}
			u, err := do()
			if err != nil {
				return exit.With(exit.Failed, fmt.Errorf("read the store in %s: %w", s.Dir(), err))
			}
			if asJSON {
				return client.PrintJSON(usage{s.Dir(), u, limits.Size, limits.Age.Seconds()})
			}
			size := format.Bytes(float64(u.Bytes))
			fmt.Printf("%s, %s%s, in %s\n", format.Count(u.Contents, "content"), size, done, s.Dir())
			return nil
		},
	}
	c.Flags().BoolVar(&all, "clear", false,
		"delete everything in it: tasks run again, and earlier changes are not shown")
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

// usage is what the command prints as JSON.
type usage struct {
	Dir string `json:"dir"`
	contents.Usage
	Limit int64   `json:"limit"` // bytes
	Age   float64 `json:"age"`   // seconds
}
