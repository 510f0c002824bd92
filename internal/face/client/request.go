package client

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"omnivigil/internal/api"
	apiclient "omnivigil/internal/api/client"
	"omnivigil/internal/api/exit"
	"omnivigil/internal/store/paths"
)

// requestCommands are the commands that send a request.
func requestCommands(of Settings) []*cobra.Command {
	request := func(use, short string, needsUnits bool, action func() api.Action) *cobra.Command {
		a := &asking{of: of}
		return a.flag(&cobra.Command{
			Use: use, Short: short, ValidArgsFunction: CompleteUnits(of),
			RunE: func(c *cobra.Command, units []string) error {
				what := action()
				if needsUnits && len(units) == 0 && what != api.End {
					return exit.Refuse("omnivigil: which unit or group? %s", c.UseLine())
				}
				return a.on(func(ctx context.Context, p *apiclient.Client) error {
					if what != api.End {
						return a.do(ctx, p, api.Request{Action: what, Units: units})
					}
					answer, err := p.Do(ctx, api.Request{Action: what})
					if err != nil {
						return err
					}
					return a.ended(p, answer)
				})
			},
		})
	}
	setup, all := false, false
	restart := request(
		"restart [UNIT or GROUP ...]",
		"Restart or rerun units, or every enabled unit",
		false,
		func() api.Action {
			if setup {
				return api.SetUp
			}
			return api.Restart
		},
	)
	restart.Flags().BoolVar(&setup, "setup", false, "repeat the setup steps")
	stop := request(
		"stop UNIT or GROUP ...",
		"Stop units until they are started again; with --all, end the project",
		true,
		func() api.Action {
			if all {
				return api.End
			}
			return api.Stop
		},
	)
	stop.Flags().BoolVar(&all, "all", false, "stop every unit in order and end the project")
	return []*cobra.Command{
		restart,
		stop,
		doubtsCommand(of),
		keepCommand(of),
		onlyCommand(of),
		request(
			"run UNIT or GROUP ...",
			"Start or rerun units that are not running",
			true,
			func() api.Action { return api.Start },
		),
		request(
			"pause [UNIT or GROUP ...]",
			"Pause reactions to changes, of some or all units",
			false,
			func() api.Action { return api.Pause },
		),
		request(
			"resume [UNIT or GROUP ...]",
			"Resume reactions to changes, of some or all units",
			false,
			func() api.Action { return api.Resume },
		),
	}
}

// ended waits until the project has ended.
func (a *asking) ended(p *apiclient.Client, answer api.Answer) error {
	const most = time.Minute
	there, err := a.of.Remote()
	if err != nil {
		return err
	}
	isGone := true
	if there != nil {
		ctx, stop := context.WithTimeout(context.Background(), most)
		defer stop()
		err := p.Follow(ctx, api.Face{}, func(*api.Snapshot) error { return nil })
		isGone = err == nil || errors.Is(err, apiclient.ErrLost)
	} else {
		file, err := a.of.FindRunning()
		if err != nil {
			return err
		}
		place, err := paths.Place(file)
		if err != nil {
			return err
		}
		p.Close()
		isGone = WaitGone(place, most)
	}
	if !isGone {
		return exit.Saying(exit.Failed, "omnivigil: the project is still being ended")
	}
	if a.asJSON {
		return PrintJSON(answer)
	}
	fmt.Println("The project has ended.")
	return nil
}

// SayAnswer prints what a request has set off.
func SayAnswer(a api.Answer) {
	if a.Text != "" {
		Say(os.Stdout, "%s", a.Text)
	}
	if a.Ripple > 0 {
		Say(
			os.Stdout,
			"Ripple %d. omnivigil wait waits for it; omnivigil ripples %d shows it.",
			a.Ripple,
			a.Ripple,
		)
	}
}

// onlyCommand enables only some units, or everything again.
func onlyCommand(of Settings) *cobra.Command {
	a := &asking{of: of}
	return a.flag(&cobra.Command{
		Use:   "only [UNIT, GROUP or @SELECTION ...]",
		Short: "Run only these units and what they need; without names, everything again",
		Long: `Enable only these units and what they need, and stop all others, until "omnivigil
only" without names enables everything again. A selection is a list of units and
groups in your own settings; those that this project has not are left out.`,
		Example: `  omnivigil only backend
  omnivigil only @sea
  omnivigil only`,
		ValidArgsFunction: CompleteUnits(of),
		RunE: func(_ *cobra.Command, names []string) error {
			return a.on(func(ctx context.Context, p *apiclient.Client) error {
				units, err := selected(ctx, p, of, names)
				if err != nil {
					return err
				}
				return a.do(ctx, p, api.Request{Action: api.Only, Units: units})
			})
		},
	})
}

// selected returns names of units and groups, with what the project has of selections.
func selected(ctx context.Context, p *apiclient.Client, of Settings, names []string) (units []string, err error) {
	for _, name := range names {
		if !strings.HasPrefix(name, "@") {
			units = append(units, name)
			continue
		}
		snap, err := p.Snapshot(ctx)
		if err != nil {
			return nil, err
		}
		in, err := of.Selection(name)
		if err != nil {
			return nil, err
		}
		if in = snap.Project.Has(snap.UnitNames(), in); len(in) == 0 {
			return nil, exit.Refuse("omnivigil: no unit of %s is in this project", name)
		}
		units = append(units, in...)
	}
	return units, nil
}

// keepCommand makes a foreground project a background project, and back.
func keepCommand(of Settings) *cobra.Command {
	off := false
	a := &asking{of: of}
	c := a.flag(&cobra.Command{
		Use:   "keep",
		Short: "Keep a foreground project running without a screen",
		Args:  cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			action := api.LeaveRunning
			if off {
				action = api.EndWithFaces
			}
			return a.on(func(ctx context.Context, p *apiclient.Client) error {
				return a.do(ctx, p, api.Request{Action: action})
			})
		},
	})
	c.Flags().BoolVar(&off, "off", false, "end the project when its last screen is closed, as at its start")
	return c
}
