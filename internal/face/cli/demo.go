package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"omnivigil/internal/api/exit"
	"omnivigil/internal/demo"
	"omnivigil/internal/face/cli/location"
	"omnivigil/internal/face/cli/show"
	"omnivigil/internal/plan"
	"omnivigil/internal/plan/settings"
	"omnivigil/internal/store/consent"
	"omnivigil/internal/store/history"
	"omnivigil/internal/store/history/madeup"
	"omnivigil/internal/store/paths"
	"omnivigil/internal/supervisor"
)

func demoCommand() *cobra.Command {
	var autopilot, keep, month bool
	var as show.Look
	var pause time.Duration
	c := &cobra.Command{
		Use:   "demo",
		Short: "Start the demo project, a small ferry line, in its own directory",
		Args:  cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			return runDemo(demoOptions{autopilot, keep, month, as, pause})
		},
	}
	c.Flags().BoolVar(&autopilot, "autopilot", false, "edit the demo's files automatically every few seconds")
	c.Flags().BoolVar(&keep, "keep", false, "keep the demo's directory afterwards")
	c.Flags().BoolVar(&month, "month", false, "with a made-up month of history, for charts over days and trends")
	as.Flags(c)
	c.Flags().DurationVar(&pause, "pause", 6*time.Second, "pause between the edits of the autopilot")
	return c
}

// actCommand runs one of the demo's programs.
func actCommand() *cobra.Command {
	return &cobra.Command{
		Use:    "act NAME",
		Hidden: true,
		Args:   cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			if code := demo.Act(args[0]); code != 0 {
				return exit.Quietly(code)
			}
			return nil
		},
	}
}

type demoOptions struct {
	autopilot, keep, month bool
	show.Look
	pause time.Duration
}

func runDemo(o demoOptions) error {
	self, err := os.Executable()
	if err != nil {
		return exit.Saying(exit.Failed, "omnivigil: find its own program: "+err.Error())
	}
	demo.RemoveAbandoned(os.TempDir(), func(folder string) bool {
		return location.Runs(filepath.Join(folder, plan.FileName))
	})
	parent, err := demo.MakeFolder(os.TempDir())
	if err != nil {
		return exit.Saying(exit.Failed, "omnivigil: create the demo's directory: "+err.Error())
	}
	folder, err := demo.Unpack(parent, self)
	if err != nil {
		return exit.With(exit.Failed, err)
	}
	p, err := settings.Read(filepath.Join(folder, plan.FileName))
	if err != nil {
		return exit.Saying(exit.Failed, err.Error())
	}
	place, err := paths.Place(p.File)
	if err != nil {
		return exit.With(exit.Failed, err)
	}
	how := supervisor.Options{File: p.File, Agreed: consent.Fingerprint(p), Demo: true}
	if o.autopilot {
		how.Autopilot = o.pause
	}
	if o.keep {
		defer fmt.Fprintln(os.Stderr, "The demo's directory is kept at", folder)
	} else {
		how.Remove = parent
	}
	if o.month {
		if _, err := madeup.Ferries(time.Now()).Write(paths.History(p.File), history.Limits{}); err != nil {
			return exit.With(exit.Failed, err)
		}
	}
	client, err := launch(place, how)
	if err != nil {
		return err
	}
	return show.Project(place, client, o.Look)
}
