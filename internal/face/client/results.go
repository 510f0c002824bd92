package client

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"omnivigil/internal/api"
	apiclient "omnivigil/internal/api/client"
	"omnivigil/internal/api/exit"
	"omnivigil/internal/text/format"
)

// resultCommands are the commands for tests and findings.
func resultCommands(of Settings) []*cobra.Command {
	return []*cobra.Command{testsCommand(of), findingsCommand(of), narrowCommand(of), widenCommand(of)}
}

func testsCommand(of Settings) *cobra.Command {
	a := &reading{asking: asking{of: of}}
	q, output := api.ResultQuery{Count: api.MaxLines}, false
	c := a.flag(&cobra.Command{
		Use:   "tests [UNIT or GROUP ...]",
		Short: "List tests, failing tests first",
		Long: `List tests, newly failing tests first. --only takes failing, new (newly failing),
fixed (fixed), flaky (a different result without a relevant change), slow (slower
than its usual duration), skipped or passed.`,
		Example: `  omnivigil tests --only failing --output
  omnivigil tests harbour --text tide --json`,
		ValidArgsFunction: CompleteUnits(of),
		RunE: func(_ *cobra.Command, units []string) error {
			q.Units = units
			return a.read(func(ctx context.Context, p api.Record) error {
				if a.asJSON {
					page, err := p.Cases(ctx, q)
					if err != nil {
						return err
					}
					return PrintJSON(page)
				}
				return sayTests(ctx, os.Stdout, p, q, output)
			})
		},
	})
	c.Flags().StringVar(&q.Only, "only", "", "only tests that are failing, new, fixed, flaky, slow, skipped or passed")
	c.Flags().StringVar(&q.Text, "text", "", "only tests whose names contain this text")
	c.Flags().BoolVar(&output, "output", false, "with the output of failing tests")
	return c
}

// sayTests lists tests, after a summary of each unit.
func sayTests(ctx context.Context, w io.Writer, p api.Record, q api.ResultQuery, output bool) error {
	snap, err := p.Snapshot(ctx)
	if err != nil {
		return err
	}
	page, err := p.Cases(ctx, q)
	if err != nil {
		return err
	}
	for _, u := range snap.Units {
		if u.Report.Cases > 0 {
			Say(w, "%s: %s%s", u.Name, u.Report.Text, narrowedText(u))
		}
	}
	for _, c := range page.Cases {
		Say(w, "%s", testLine(snap, c))
		if !output || c.Status != api.CaseFailed {
			continue
		}
		whole, err := p.Case(ctx, c.Unit, api.CaseName{Suite: c.Suite, Name: c.Name})
		if err != nil {
			continue // it was removed in the meantime
		}
		for _, line := range whole.Output {
			Say(w, "      %s", line)
		}
	}
	switch {
	case page.Total == 0:
		Say(w, "There is no such test.")
	case page.Total > len(page.Cases):
		Say(w, "and %d more", page.Total-len(page.Cases))
	}
	return nil
}

func narrowedText(u *api.Unit) string {
	if u.Narrowed == "" {
		return ""
	}
	return "; narrowed to " + u.Narrowed
}

// testLine is a test in one line: its state, its name, and why it failed.
func testLine(snap *api.Snapshot, c api.Case) string {
	words := string(c.Status)
	if c.Change != "" {
		words = string(c.Change)
	}
	if c.Flaky {
		words += ", flaky"
	}
	if c.Slow {
		words += ", slow"
	}
	text := fmt.Sprintf("  %-14s %s  %s", words, c.Unit, c.Title())
	if c.Name != "" && c.Suite != "" {
		text += "  (" + c.Suite + ")"
	}
	if c.Took > 0 {
		text += "  " + format.Duration(c.Took.Duration())
	}
	if c.Status == api.CaseFailed {
		message, _, _ := strings.Cut(c.Message, "\n")
		text += "\n      " + c.From(snap.Project.Root).Text() + message
	}
	return text
}

func findingsCommand(of Settings) *cobra.Command {
	a := &reading{asking: asking{of: of}}
	q, format := api.ResultQuery{Count: api.MaxLines}, "text"
	c := a.flag(&cobra.Command{
		Use:   "findings [UNIT or GROUP ...]",
		Short: "List the diagnostics of compilers, linters and runtimes",
		Long: `List diagnostics with their locations. --only takes error, warning, new or gone.
--format places prints only "file:line:column: message", for editors that load a
list of errors.`,
		Example: `  omnivigil findings --only new
  omnivigil findings --format places`,
		ValidArgsFunction: CompleteUnits(of),
		RunE: func(_ *cobra.Command, units []string) error {
			q.Units = units
			if format != "text" && format != "places" {
				return exit.Refuse("omnivigil: --format must be text or places, not %q", format)
			}
			return a.read(func(ctx context.Context, p api.Record) error {
				page, err := p.Findings(ctx, q)
				if err != nil {
					return err
				}
				if a.asJSON {
					return PrintJSON(page)
				}
				snap, err := p.Snapshot(ctx)
				if err != nil {
					return err
				}
				if format == "places" {
					sayPlaces(os.Stdout, snap, page.Findings)
				} else {
					sayFindings(os.Stdout, snap, page)
				}
				return nil
			})
		},
	})
	c.Flags().StringVar(&q.Only, "only", "", "only diagnostics that are error, warning, new or gone")
	c.Flags().StringVar(&q.Text, "text", "", "only diagnostics whose file, rule or message contains this text")
	c.Flags().StringVar(&format, "format", format, "text, or places for editors")
	return c
}

func sayFindings(w io.Writer, snap *api.Snapshot, page api.FindingPage) {
	for _, f := range page.Findings {
		rule := ""
		if f.Rule != "" {
			rule = "  (" + f.Rule + ")"
		}
		Say(
			w,
			"  %-5s %-8s %s  %s%s%s",
			f.Change,
			f.Severity,
			f.Reporters(),
			f.From(snap.Project.Root).Text(),
			f.Message,
			rule,
		)
	}
	switch {
	case page.Total == 0:
		Say(w, "There is no such finding.")
	case page.Total > len(page.Findings):
		Say(w, "and %d more", page.Total-len(page.Findings))
	}
}

// sayPlaces prints locations for editors, without findings that are gone. Files are relative to the working
// directory, where the editor was probably started.
func sayPlaces(w io.Writer, snap *api.Snapshot, findings []api.Finding) {
	here, err := os.Getwd()
	if err != nil {
		here = snap.Project.Root
	}
	for _, f := range findings {
		if f.Change != api.GoneFinding && f.File != "" {
			Say(w, "%s%s: %s", f.From(here).Text(), f.Severity, f.Message)
		}
	}
}

func narrowCommand(of Settings) *cobra.Command {
	a := &asking{of: of}
	failing := false
	c := a.flag(&cobra.Command{
		Use:   "narrow UNIT [TEST ...]",
		Short: "Run only some tests of a suite",
		Long: `Run only these tests of a suite, now and on every change, until "omnivigil widen". A
narrowed suite counts as stale even if these tests pass. --failing takes the failing
tests.`,
		Example: `  omnivigil narrow harbour TestBerths/low_tide
  omnivigil narrow harbour --failing`,
		Args: cobra.MinimumNArgs(1),
		ValidArgsFunction: func(c *cobra.Command, taken []string, typed string) ([]string, cobra.ShellCompDirective) {
			if len(taken) == 0 {
				return CompleteUnits(of)(c, taken, typed)
			}
			return testsOf(a, taken[0], taken[1:]), cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(c *cobra.Command, args []string) error {
			if failing == (len(args) > 1) {
				return exit.Refuse("omnivigil: name tests, or say --failing: %s", c.UseLine())
			}
			return a.on(func(ctx context.Context, p *apiclient.Client) error {
				r := api.Request{Action: api.Narrow, Units: args[:1], Failing: failing}
				for _, name := range args[1:] {
					named, err := named(ctx, p, args[0], name)
					if err != nil {
						return err
					}
					r.Cases = append(r.Cases, named)
				}
				return a.do(ctx, p, r)
			})
		},
	})
	c.Flags().BoolVar(&failing, "failing", false, "narrow to the failing tests")
	return c
}

// testsOf returns the names of the known tests of a unit, without those that are taken; none if that is unknown.
func testsOf(a *asking, unit string, taken []string) (names []string) {
	a.on(func(ctx context.Context, p *apiclient.Client) error {
		page, err := p.Cases(ctx, api.ResultQuery{Units: []string{unit}, Count: api.MaxLines})
		for _, c := range page.Cases {
			if name := cmp.Or(c.Name, c.Suite); !slices.Contains(taken, name) {
				names = append(names, name)
			}
		}
		return err
	})
	return names
}

// named returns the test with a name, or if it is unknown, only that name, which the runner may know.
func named(ctx context.Context, p *apiclient.Client, unit, name string) (api.CaseName, error) {
	page, err := p.Cases(ctx, api.ResultQuery{Units: []string{unit}, Text: name, Count: api.MaxLines})
	if err != nil {
		return api.CaseName{}, err
	}
	for _, c := range page.Cases {
		if c.Name == name {
			return api.CaseName{Suite: c.Suite, Name: c.Name}, nil
		}
	}
	return api.CaseName{Name: name}, nil
}

// do sends a request and prints what that has set off.
func (a *asking) do(ctx context.Context, p *apiclient.Client, r api.Request) error {
	answer, err := p.Do(ctx, r)
	switch {
	case err != nil:
		return err
	case a.asJSON:
		return PrintJSON(answer)
	}
	SayAnswer(answer)
	return nil
}

func widenCommand(of Settings) *cobra.Command {
	a := &asking{of: of}
	return a.flag(&cobra.Command{
		Use:               "widen UNIT or GROUP ...",
		Short:             "Run the whole suite again",
		Args:              cobra.MinimumNArgs(1),
		ValidArgsFunction: CompleteUnits(of),
		RunE: func(_ *cobra.Command, units []string) error {
			return a.on(func(ctx context.Context, p *apiclient.Client) error {
				return a.do(ctx, p, api.Request{Action: api.Widen, Units: units})
			})
		},
	})
}
