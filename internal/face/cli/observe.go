package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"time"

	"github.com/aymanbagabas/go-udiff"
	"github.com/spf13/cobra"

	"omnivigil/internal/api"
	apiclient "omnivigil/internal/api/client"
	"omnivigil/internal/api/exit"
	"omnivigil/internal/api/socket"
	"omnivigil/internal/face/cli/ask"
	"omnivigil/internal/face/cli/location"
	"omnivigil/internal/face/client"
	"omnivigil/internal/files"
	"omnivigil/internal/plan"
	"omnivigil/internal/plan/edit"
	"omnivigil/internal/session/observation"
	"omnivigil/internal/store/consent"
	"omnivigil/internal/store/paths"
	"omnivigil/internal/supervisor"
	"omnivigil/internal/text/escape"
	"omnivigil/internal/text/format"
)

type observeOptions struct {
	units  []string
	longer time.Duration // from when everything is ready or done
	trust  bool
	yes    bool
	asJSON bool
	write  bool
}

func observeCommand(at *location.Location) *cobra.Command {
	var o observeOptions
	c := &cobra.Command{
		Use:   "observe [UNIT or GROUP ...]",
		Short: "Check the rules against what units really read, write and connect to",
		Long: `Run units with everything they need under observation, until they are ready or done
and nothing new has been seen for two seconds. Then report which files they read,
wrote and looked for, which programs they executed, and which addresses they listened
on and connected to; and where that differs from the settings: files that no rule
covers, rules that cover nothing, outputs and needs that are not declared.

Without names, all units that start automatically are run. If the project is running,
its units are restarted under observation, after a question. Ctrl+C ends the
observation early. The exit status is 0 if the settings agree with what was seen, and
1 if not.`,
		ValidArgsFunction: client.CompleteUnits(at),
		RunE: func(_ *cobra.Command, units []string) error {
			o.units = units
			return observe(*at, o)
		},
	}
	f := c.Flags()
	f.DurationVar(&o.longer, "for", 0, "observe for this duration after everything is ready or done")
	f.BoolVar(&o.write, "write", false, "show the proposed change of the settings file, and write it if you agree")
	f.BoolVar(&o.asJSON, "json", false, "print JSON as described in docs/api.md")
	f.BoolVar(&o.yes, "yes", false, "restart units of a running project, and write, without asking")
	f.BoolVar(&o.trust, "trust", false, "run this project's commands without asking")
	return c
}

// observe runs units under observation and reports what they did.
func observe(at location.Location, o observeOptions) error {
	if err := observation.Available(); err != nil {
		return exit.With(exit.Failed, err)
	}
	p, err := at.Open()
	if err != nil {
		return err
	}
	for _, name := range o.units {
		if p.Expand(name) == nil {
			return exit.Refuse("omnivigil: %s has no unit or group %q; %s", p.File, name, p.Hint(name))
		}
	}
	all, err := runObserved(p, o)
	if err != nil {
		return err
	}
	if o.asJSON {
		err = client.PrintJSON(all)
	} else {
		client.SayObservations(os.Stdout, all)
	}
	if err == nil && o.write {
		err = writeEdits(p, all, o.yes)
	}
	if err == nil && client.Actionable(all.Mismatches) > 0 {
		err = exit.Quietly(exit.Failed)
	}
	return err
}

// runObserved runs the units, in a running project or in one that is started for that.
func runObserved(p *plan.Plan, o observeOptions) (api.Observations, error) {
	none := api.Observations{}
	place, err := paths.Place(p.File)
	if err != nil {
		return none, exit.With(exit.Failed, err)
	}
	running, err := client.At(context.Background(), place)
	switch {
	case err == nil:
		return observeRunning(running, o)
	case !errors.Is(err, socket.ErrNotRunning):
		return none, exit.With(exit.Failed, err)
	}
	if err := ask.Consent(p, o.trust); err != nil {
		return none, err
	}
	how := supervisor.Options{
		File: p.File, Units: o.units, Once: true, Observe: true,
		Apart: "observe-" + strconv.Itoa(os.Getpid()), Agreed: consent.Fingerprint(p),
	}
	if place, err = how.Place(); err != nil {
		return none, exit.With(exit.Failed, err)
	}
	if running, err = launch(place, how); err != nil {
		return none, err
	}
	all, err := client.ObserveUntilQuiet(running, o.units, 1, o.longer)
	running.Do(context.Background(), api.Request{Action: api.End})
	client.WaitGone(place, 10*time.Second)
	return all, err
}

// observeRunning restarts units of a running project under observation, after a question.
func observeRunning(running *apiclient.Client, o observeOptions) (api.Observations, error) {
	none := api.Observations{}
	snap, err := running.Snapshot(context.Background())
	if err != nil {
		return none, exit.With(exit.Failed, err)
	}
	what := format.List(o.units)
	if len(o.units) == 0 {
		what = "all its enabled units"
	}
	if !o.yes {
		if !ask.CanAsk() {
			return none, exit.Refuse("omnivigil: %s is running; pass --yes to restart %s under observation",
				snap.Project.Name, what)
		}
		fmt.Printf("%s is running. Restart %s under observation? [y/N] ", escape.Text(snap.Project.Name), what)
		if ask.Answer(bufio.NewReader(os.Stdin)) != "y" {
			return none, exit.Refuse("Nothing was restarted.")
		}
	}
	answer, err := running.Do(context.Background(), api.Request{Action: api.Observe, Units: o.units})
	if err != nil {
		return none, exit.With(exit.Failed, err)
	}
	return client.ObserveUntilQuiet(running, o.units, answer.Ripple, o.longer)
}

// writeEdits shows what the observations propose as a change of the settings, and writes it if the user agrees.
func writeEdits(p *plan.Plan, all api.Observations, yes bool) error {
	edited, problems := observation.Proposed(p, all.Mismatches)
	for _, problem := range problems {
		fmt.Fprintln(os.Stderr, escape.Lines(problem.Error()))
	}
	before := map[string]string{}
	for _, file := range slices.Sorted(maps.Keys(edited)) {
		data, err := files.Read(file, files.Sane)
		if err != nil {
			return exit.With(exit.Failed, err)
		}
		if before[file] = string(data); string(edited[file]) == string(data) {
			delete(edited, file)
			continue
		}
		name := file
		if rel, err := filepath.Rel(p.Root, file); err == nil {
			name = filepath.ToSlash(rel)
		}
		fmt.Print("\n" + escape.Lines(udiff.Unified(name, name+" as proposed", string(data), string(edited[file]))))
	}
	if len(edited) == 0 {
		fmt.Println("\nThere is nothing to write.")
		return nil
	}
	names := slices.Sorted(maps.Keys(edited))
	if !yes {
		if !ask.CanAsk() {
			return exit.Refuse("omnivigil: %s was not changed; pass --yes to write the proposed change",
				format.List(names))
		}
		fmt.Printf("\nWrite this to %s? [y/N] ", escape.Text(format.List(names)))
		if ask.Answer(bufio.NewReader(os.Stdin)) != "y" {
			return exit.Refuse("Nothing was written.")
		}
	}
	for _, file := range names {
		if now, err := files.Read(file, files.Sane); err != nil || string(now) != before[file] {
			return exit.Refuse("omnivigil: %s was changed in the meantime; it was not written", file)
		}
		if err := edit.Replace(file, edited[file]); err != nil {
			return exit.With(exit.Failed, err)
		}
		fmt.Printf("Wrote %s.\n", escape.Text(file))
	}
	return nil
}
