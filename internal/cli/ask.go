package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"omnivigil/internal/api"
	"omnivigil/internal/phrase"
	"omnivigil/internal/plain"
	"omnivigil/internal/plan"
	"omnivigil/internal/visible"
)

// Commands that ask a running project. Each is a face: it stands on the contract alone.

// asking is what such a command has in common with the others.
type asking struct {
	at     *location
	asJSON bool
}

func (a *asking) flag(c *cobra.Command) *cobra.Command {
	c.Flags().BoolVar(&a.asJSON, "json", false, "print JSON, in the shapes of docs/api.md")
	return c
}

// on does something with the running project, until it is interrupted.
func (a *asking) on(do func(ctx context.Context, p *api.Client) error) error {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	p, err := a.at.reach(ctx)
	if err != nil {
		return err
	}
	defer p.Close()
	err = do(ctx, p)
	var refusal *api.Refusal
	var o outcome
	switch {
	case err == nil || errors.As(err, &o):
		return err
	case ctx.Err() != nil:
		return outcome{exitInterrupted, ""}
	case errors.As(err, &refusal):
		return refuse("omnivigil: %s", refusal.Text)
	case errors.Is(err, syscall.EPIPE):
		return nil
	}
	return outcome{exitFailed, "omnivigil: " + err.Error()}
}

func printJSON(value any) error {
	out := json.NewEncoder(os.Stdout)
	out.SetEscapeHTML(false)
	return out.Encode(value)
}

// say prints a line in which nothing acts on the terminal.
func say(w io.Writer, format string, args ...any) {
	fmt.Fprintln(w, visible.Lines(strings.TrimRight(fmt.Sprintf(format, args...), " ")))
}

// completeUnits completes names of units and groups.
func (at *location) completeUnits(_ *cobra.Command, taken []string, _ string) ([]string, cobra.ShellCompDirective) {
	file, err := at.find()
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	p, err := plan.Read(file)
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	used := map[string]bool{}
	for _, name := range taken {
		used[name] = true
	}
	var names []string
	add := func(name, what string) {
		if !used[name] {
			names = append(names, name+"\t"+what)
		}
	}
	for _, u := range p.Units {
		add(u.Name, u.Kind.String())
	}
	for _, g := range p.Groups {
		add(g.Name, "group of "+strings.Join(g.Units, ", "))
	}
	return names, cobra.ShellCompDirectiveNoFileComp
}

func statusCommand(at *location) *cobra.Command {
	a := &asking{at: at}
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
					return printJSON(snap)
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
	say(w, "%s  %s", strings.ToUpper(string(snap.Verdict.Word)), snap.Verdict.Text)
	say(w, "%s", seen(snap))
	if snap.Settings != "" {
		say(w, "the settings just saved have an error and are not used: %s", snap.Settings)
	}
	name := 0
	for _, u := range snap.Units {
		name = max(name, len(u.Name))
	}
	fmt.Fprintln(w)
	for _, u := range snap.Units {
		say(w, "  %-*s  %-7s  %-8s  %-8s  %s", name, u.Name, u.Kind, u.State, freshnessWord(u), unitDetail(snap, u))
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
	for _, address := range snap.Uses[u.Name].Addresses {
		parts = append(parts, address.String())
	}
	return strings.Join(parts, "  ")
}

func logsCommand(at *location) *cobra.Command {
	a := &asking{at: at}
	var follow bool
	var count int
	var since string
	c := a.flag(&cobra.Command{
		Use:               "logs [UNIT]",
		Short:             "Print the output of the running project, or of one unit",
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: at.completeUnits,
		RunE: func(_ *cobra.Command, units []string) error {
			q := api.LineQuery{Count: min(count, api.MostLines), Last: true}
			if len(units) > 0 {
				q.Unit = units[0]
			}
			if since != "" {
				at, err := moment(since, time.Now())
				if err != nil {
					return refuse("omnivigil: --since: %v", err)
				}
				q.Last, q.Since, q.Count = false, at, api.MostLines
			}
			return a.on(func(ctx context.Context, p *api.Client) error { return a.lines(ctx, p, q, follow) })
		},
	})
	// Here -f is what it is for every command of that name, so --file has no short form.
	c.Flags().StringVar(&at.file, "file", "", "the settings file to use")
	c.Flags().BoolVarP(&follow, "follow", "f", false, "go on with what is written from now on, until the project ends")
	c.Flags().IntVarP(&count, "lines", "n", api.DefaultLines, "how many of the last lines")
	c.Flags().StringVar(&since, "since", "", "all since then: a length of time such as 10m, or a time of day such as 14:05")
	return c
}

// moment reads a length of time before now, or a time of day, or a whole date.
func moment(text string, now time.Time) (time.Time, error) {
	if d, err := time.ParseDuration(text); err == nil {
		return now.Add(-d), nil
	}
	for _, form := range []string{"15:04:05", "15:04"} {
		if t, err := time.ParseInLocation(form, text, now.Location()); err == nil {
			return time.Date(now.Year(), now.Month(), now.Day(), t.Hour(), t.Minute(), t.Second(), 0, now.Location()), nil
		}
	}
	if t, err := time.Parse(time.RFC3339, text); err == nil {
		return t, nil
	}
	return time.Time{}, fmt.Errorf("%q is neither a length of time such as 10m nor a time such as 14:05", text)
}

// lines prints lines, and goes on with those that come.
func (a *asking) lines(ctx context.Context, p *api.Client, q api.LineQuery, follow bool) error {
	snap, err := p.Snapshot(ctx)
	if err != nil {
		return err
	}
	if q.Unit != "" && snap.Unit(q.Unit) == nil {
		return api.Refuse("there is no unit %s", q.Unit)
	}
	format := plain.For(snap, colours())
	show := func(lines []api.Line) error {
		for _, l := range lines {
			var err error
			if a.asJSON {
				err = printJSON(l)
			} else {
				_, err = fmt.Println(format.Line(l))
			}
			if err != nil {
				return err
			}
		}
		return nil
	}
	if follow {
		return api.FollowLines(ctx, p, q, show)
	}
	for {
		page, err := p.Lines(ctx, q)
		if err != nil || len(page.Lines) == 0 {
			return err
		}
		if err := show(page.Lines); err != nil || q.Last {
			return err
		}
		q = api.LineQuery{Unit: q.Unit, Count: api.MostLines, From: page.From + int64(len(page.Lines))}
	}
}

func ripplesCommand(at *location) *cobra.Command {
	a := &asking{at: at}
	return a.flag(&cobra.Command{
		Use:   "ripples [NUMBER]",
		Short: "List what was set off lately and by what, or tell one ripple whole",
		Long: `A ripple is a save, or another cause, with every run that it brought about, until all are
at rest. Without a number the newest twenty are listed.`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			number := 0
			if len(args) > 0 {
				n, err := strconv.Atoi(args[0])
				if err != nil || n < 1 {
					return refuse("omnivigil: a ripple has a number, such as 7, not %q", args[0])
				}
				number = n
			}
			return a.on(func(ctx context.Context, p *api.Client) error {
				snap, err := p.Snapshot(ctx)
				if err != nil {
					return err
				}
				if number == 0 {
					return a.sayRipples(snap)
				}
				r := snap.Ripple(number)
				if r == nil {
					return api.Refuse("ripple %d is not known; the newest is %d", number, newestRipple(snap))
				}
				if a.asJSON {
					return printJSON(r)
				}
				return sayRipple(ctx, os.Stdout, p, snap, r)
			})
		},
	})
}

func newestRipple(snap *api.Snapshot) int {
	if n := len(snap.Ripples); n > 0 {
		return snap.Ripples[n-1].ID
	}
	return 0
}

func (a *asking) sayRipples(snap *api.Snapshot) error {
	const most = 20
	newest := snap.Ripples[max(len(snap.Ripples)-most, 0):]
	if a.asJSON {
		return printJSON(newest)
	}
	for _, r := range newest {
		say(os.Stdout, "%4d  %s  %-8s %9s  %s", r.ID, phrase.Clock(r.Since), r.Outcome, rippleTook(r), r.Title)
	}
	return nil
}

func rippleTook(r *api.Ripple) string {
	if !r.Resting() {
		return ""
	}
	return phrase.Duration(r.RestAt.Sub(r.Since))
}

// sayRipple tells a ripple with its runs, and the output of those that failed.
func sayRipple(ctx context.Context, w io.Writer, p api.Project, snap *api.Snapshot, r *api.Ripple) error {
	say(w, "ripple %d, %s: %s", r.ID, phrase.Clock(r.Since), r.Title)
	switch {
	case !r.Resting():
		say(w, "it is not at rest yet")
	case r.Detail != "":
		say(w, "%s after %s: %s", r.Outcome, rippleTook(r), r.Detail)
	default:
		say(w, "%s after %s", r.Outcome, rippleTook(r))
	}
	if len(r.Paths) > 1 {
		say(w, "files: %s", strings.Join(r.Paths, ", "))
	}
	for _, c := range r.Concerned {
		say(w, "%s: it matches %q", c.Unit, c.Rule)
	}
	for _, ref := range r.Runs {
		what := fmt.Sprintf("run %d", ref.Number)
		if ref.Pass > 0 {
			what += fmt.Sprintf(", pass %d", ref.Pass)
		}
		say(w, "  %s %s  %s", ref.Unit, what, phrase.Duration(ref.Took.Duration()))
		if u := snap.Unit(ref.Unit); u == nil || !u.State.Broken() || u.Run.Number != ref.Number {
			continue
		}
		page, err := p.Lines(ctx, api.LineQuery{Unit: ref.Unit, Run: ref.Number, Why: true, Count: 10})
		if err != nil {
			return err
		}
		for _, l := range page.Lines {
			fmt.Fprintln(w, "    "+plain.Text(l, colours()))
		}
	}
	return nil
}

func waitCommand(at *location) *cobra.Command {
	a := &asking{at: at}
	var timeout time.Duration
	c := a.flag(&cobra.Command{
		Use:   "wait [UNIT or GROUP ...]",
		Short: "Wait until everything is at rest after the newest save, and say how it ended",
		Long: `Waits until everything, or these units, has come to rest after all that was saved before the
call. The exit code is 0 where all is current, 1 where something is broken or stale, which
is named, and 3 where the time was up.`,
		ValidArgsFunction: at.completeUnits,
		RunE: func(_ *cobra.Command, units []string) error {
			return a.on(func(ctx context.Context, p *api.Client) error {
				waited, err := p.Wait(ctx, api.WaitQuery{Units: units, Timeout: api.Seconds(timeout)})
				if err != nil {
					return err
				}
				if a.asJSON {
					if err := printJSON(waited); err != nil {
						return err
					}
				} else {
					sayWaited(os.Stdout, waited)
				}
				switch {
				case waited.OK:
					return nil
				case waited.TimedOut:
					return outcome{exitTimedOut, ""}
				}
				return outcome{exitFailed, ""}
			})
		},
	})
	c.Flags().DurationVar(&timeout, "timeout", 0, "how long to wait at most; without it there is no limit")
	return c
}

func sayWaited(w io.Writer, waited api.Waited) {
	if waited.TimedOut {
		say(w, "It has not come to rest within %s.", phrase.Duration(waited.Took.Duration()))
	}
	say(w, "%s  %s", strings.ToUpper(string(waited.Verdict.Word)), waited.Verdict.Text)
	for _, u := range waited.Trouble {
		text := fmt.Sprintf("%s is %s", u.Unit, u.Freshness)
		if u.State.Broken() || u.Freshness == api.NoCode {
			text = fmt.Sprintf("%s %s", u.Unit, u.State)
		}
		if u.Why != "" {
			text += ": " + u.Why
		}
		say(w, "  %s", text)
		if u.Line != nil {
			fmt.Fprintln(w, "    "+plain.Text(*u.Line, colours()))
		}
	}
}

// requestCommands are those that ask for something to be done.
func requestCommands(at *location) []*cobra.Command {
	request := func(use, short string, needsUnits bool, action func() api.Action) *cobra.Command {
		a := &asking{at: at}
		return a.flag(&cobra.Command{
			Use: use, Short: short, ValidArgsFunction: at.completeUnits,
			RunE: func(c *cobra.Command, units []string) error {
				what := action()
				if needsUnits && len(units) == 0 && what != api.End {
					return refuse("omnivigil: which unit or group? omnivigil %s", c.UseLine())
				}
				return a.on(func(ctx context.Context, p *api.Client) error {
					answer, err := p.Do(ctx, api.Request{Action: what, Units: units})
					switch {
					case err != nil:
						return err
					case a.asJSON:
						return printJSON(answer)
					}
					sayAnswer(answer)
					if what == api.End {
						return a.ended(p)
					}
					return nil
				})
			},
		})
	}
	setup, all := false, false
	restart := request("restart [UNIT or GROUP ...]", "Restart or rerun units of the running project, or everything that is wanted", false, func() api.Action {
		if setup {
			return api.SetUp
		}
		return api.Restart
	})
	restart.Flags().BoolVar(&setup, "setup", false, "with the setup steps, whether their inputs have changed or not")
	stop := request("stop UNIT or GROUP ...", "Stop units until they are started again; with --all, end the project", true, func() api.Action {
		if all {
			return api.End
		}
		return api.Stop
	})
	stop.Flags().BoolVar(&all, "all", false, "stop everything in order and end the project")
	return []*cobra.Command{
		restart, stop,
		request("run UNIT or GROUP ...", "Start or rerun units of the running project that do not run", true, func() api.Action { return api.Start }),
		request("pause [UNIT or GROUP ...]", "Pause reactions to changes, of units or of all", false, func() api.Action { return api.Pause }),
		request("resume [UNIT or GROUP ...]", "Resume reactions to changes, of units or of all", false, func() api.Action { return api.Resume }),
	}
}

// ended waits until the project has ended.
func (a *asking) ended(p *api.Client) error {
	file, err := a.at.find()
	if err != nil {
		return err
	}
	place, err := placeOf(file)
	if err != nil {
		return err
	}
	p.Close()
	const most = time.Minute
	if !waitGone(place, most) {
		return outcome{exitFailed, "omnivigil: the project is still being ended"}
	}
	fmt.Println("The project has ended.")
	return nil
}

func sayAnswer(a api.Answer) {
	switch {
	case a.Text != "":
		say(os.Stdout, "%s", a.Text)
	case a.Ripple > 0:
		say(os.Stdout, "That is ripple %d. omnivigil wait waits for it, omnivigil ripples %d tells of it.", a.Ripple, a.Ripple)
	}
}
