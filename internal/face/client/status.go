package client

import (
	"context"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"omnivigil/internal/api"
	apiclient "omnivigil/internal/api/client"
	"omnivigil/internal/api/exit"
	"omnivigil/internal/face/card"
	"omnivigil/internal/text/format"
)

func statusCommand(of Settings) *cobra.Command {
	a := &reading{asking: asking{of: of}}
	socket := false
	c := a.flag(&cobra.Command{
		Use:   "status [UNIT]",
		Short: "Show the project's status, or one unit in full",
		Args:  cobra.MaximumNArgs(1), ValidArgsFunction: CompleteUnits(of),
		RunE: func(_ *cobra.Command, units []string) error {
			if a.session != "" {
				return a.read(func(_ context.Context, p api.Record) error { return a.sayEnded(p, units) })
			}
			return a.on(func(ctx context.Context, p *apiclient.Client) error {
				if socket {
					fmt.Println(p.Socket())
					return nil
				}
				snap, err := p.Snapshot(ctx)
				if err != nil {
					return err
				}
				if len(units) > 0 {
					return a.sayUnit(ctx, p, snap, units[0])
				}
				if a.asJSON {
					return PrintJSON(snap)
				}
				sayStatus(os.Stdout, snap)
				return nil
			})
		},
	})
	c.Flags().BoolVar(
		&socket,
		"socket",
		false,
		"print only the path of the socket; see docs/api.md",
	)
	return c
}

// sayEnded prints the state in which a session was left.
func (a *asking) sayEnded(p api.Record, units []string) error {
	snap, err := p.Snapshot(context.Background())
	switch {
	case err != nil:
		return err
	case len(units) > 0:
		return exit.Refuse("omnivigil: a session that has ended has no unit in full; omnivigil history %s has its runs",
			units[0])
	case a.asJSON:
		return PrintJSON(snap)
	}
	how := "was left"
	if _, running := p.(*apiclient.Client); running {
		how = "is running; this is its state"
	}
	Say(os.Stdout, "%s %s %s at %s", snap.Project.Name, snap.Project.Session, how, snap.At.Format("2 Jan 15:04:05"))
	sayState(os.Stdout, snap)
	return nil
}

func sayStatus(w io.Writer, snap *api.Snapshot) {
	Say(w, "%s  %s", strings.ToUpper(string(snap.Verdict.Word)), snap.Verdict.Text)
	Say(w, "%s", Seen(snap))
	sayState(w, snap)
}

// sayState lists doubts, an error of the settings, and the units.
func sayState(w io.Writer, snap *api.Snapshot) {
	sayDoubts(w, snap.Doubts)
	if snap.Settings != "" {
		problem, _, _ := strings.Cut(snap.Settings, "\n")
		Say(w, "the settings just saved have an error and are not used: %s", problem)
	}
	name := 0
	for _, u := range snap.Units {
		name = max(name, len(u.Name))
	}
	fmt.Fprintln(w)
	for _, u := range snap.Units {
		Say(w, "  %-*s  %-7s  %-8s  %-8s  %s", name, u.Name, u.Kind, u.Word(), freshnessWord(u), unitDetail(snap, u))
	}
}

// sayDoubts lists doubts, with what ends each of them.
func sayDoubts(w io.Writer, doubts []api.Doubt) {
	for _, d := range doubts {
		Say(w, "  ? %s; to end it: %s", d.What, d.Ends)
	}
}

func freshnessWord(u *api.Unit) string {
	if u.Freshness == api.NoCode || u.Word() == string(u.Freshness) {
		return ""
	}
	return string(u.Freshness)
}

// unitDetail is what is shown of a unit in addition to its state.
func unitDetail(snap *api.Snapshot, u *api.Unit) string {
	var parts []string
	switch why := snap.WhyOf(u); {
	case u.State.Broken() && u.Run.Problem != "":
		parts = append(parts, u.Run.Problem)
	case u.State.Broken() && u.Run.Exit != nil:
		parts = append(parts, u.Run.Exit.Text)
	case why != "":
		parts = append(parts, why)
	}
	if u.Run.Pace != "" {
		parts = append(parts, u.Run.Pace)
	}
	if u.Report.Text != "" {
		parts = append(parts, u.Report.Text)
	}
	if ask, asks := snap.Asks[u.Name]; asks {
		parts = append(parts, "waits for "+ask.For())
	}
	for _, address := range snap.Uses[u.Name].Addresses {
		parts = append(parts, address.String())
	}
	return strings.Join(parts, "  ")
}

// sayUnit prints everything about one unit.
func (a *asking) sayUnit(ctx context.Context, p api.Project, snap *api.Snapshot, name string) error {
	d, err := p.Detail(ctx, name)
	if err != nil {
		return err
	}
	why, err := p.Explain(ctx, name)
	if err != nil {
		return err
	}
	if a.asJSON {
		return PrintJSON(struct {
			api.Detail
			Explanation api.Explanation `json:"explanation"`
		}{d, why})
	}
	w := os.Stdout
	card.Write(w, why, snap.Project.Root, snap.At)
	section := func(title string, rows int) {
		if rows > 0 {
			Say(w, "\n%s", title)
		}
	}
	section("settings", len(d.Settings))
	for _, s := range d.Settings {
		Say(w, "  %-12s %s", s.Name, s.Text)
	}
	section("files that affect it", len(d.Rules))
	for _, r := range d.Rules {
		Say(w, "  %-30s %-8s  %s", r.Pattern, format.Count(r.Files, "file"), r.Does)
	}
	sayObserved(w, d)
	section("outputs", len(d.Outputs))
	for _, o := range d.Outputs {
		Say(w, "  %-30s %-8s  %s", o.Pattern, format.Count(o.Files, "file"), format.Bytes(float64(o.Size)))
	}
	for i, made := range d.Sizes {
		if i >= len(d.Sizes)-2 {
			Say(w, "  after run %-20d %s", made.Run, format.Bytes(float64(made.Size)))
		}
	}
	section("open pages", len(d.Pages))
	for _, page := range d.Pages {
		Say(w, "  %-14s %s", page.Browser, page.Path)
	}
	section("environment, in addition to the system's", len(d.Variables))
	for _, v := range d.Variables {
		value := v.Value
		if v.Secret {
			value = "secret"
		}
		Say(w, "  %-18s %-24s from %s", v.Name, value, v.From)
	}
	section("processes", len(d.Processes))
	for _, one := range d.Processes {
		Say(
			w,
			"  %7d  cpu time %9s  %9s  %s",
			one.PID,
			format.Duration(one.CPUTime.Duration()),
			format.Bytes(float64(one.Memory)),
			one.Command,
		)
	}
	return nil
}
