package ask

import (
	"context"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"omnivigil/internal/api"
)

func statusCommand(of Settings) *cobra.Command {
	a := &asking{of: of}
	socket := false
	c := a.flag(&cobra.Command{
		Use:   "status",
		Short: "Say how the running project is, and each of its units",
		Args:  cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			return a.on(func(ctx context.Context, p *api.Client) error {
				if socket {
					fmt.Println(p.Socket())
					return nil
				}
				snap, err := p.Snapshot(ctx)
				if err != nil {
					return err
				}
				if a.asJSON {
					return PrintJSON(snap)
				}
				sayStatus(os.Stdout, snap)
				return nil
			})
		},
	})
	c.Flags().BoolVar(&socket, "socket", false, "print only the path of its socket, for curl and faces of your own: see docs/api.md")
	return c
}

func sayStatus(w io.Writer, snap *api.Snapshot) {
	Say(w, "%s  %s", strings.ToUpper(string(snap.Verdict.Word)), snap.Verdict.Text)
	Say(w, "%s", Seen(snap))
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
		Say(w, "  %-*s  %-7s  %-8s  %-8s  %s", name, u.Name, u.Kind, u.State, freshnessWord(u), unitDetail(snap, u))
	}
}

func freshnessWord(u *api.Unit) string {
	if u.Freshness == api.NoCode {
		return ""
	}
	return string(u.Freshness)
}

// unitDetail is what there is to say of a unit beside its state.
func unitDetail(snap *api.Snapshot, u *api.Unit) string {
	var parts []string
	if u.Paused {
		parts = append(parts, "paused")
	}
	switch why := snap.WhyOf(u); {
	case u.State.Broken() && u.Run.Problem != "":
		parts = append(parts, u.Run.Problem)
	case u.State.Broken() && u.Run.Exit != nil:
		parts = append(parts, u.Run.Exit.Text)
	case why != "":
		parts = append(parts, why)
	}
	if u.Report.Text != "" {
		parts = append(parts, u.Report.Text)
	}
	for _, address := range snap.Uses[u.Name].Addresses {
		parts = append(parts, address.String())
	}
	return strings.Join(parts, "  ")
}
