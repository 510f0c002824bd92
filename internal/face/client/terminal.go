package client

import (
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"omnivigil/internal/api"
	apiclient "omnivigil/internal/api/client"
	"omnivigil/internal/api/exit"
	"omnivigil/internal/output/terminal"
)

// typeCommand types into a unit's terminal.
func typeCommand(of Settings) *cobra.Command {
	a := &asking{of: of}
	var keys []string
	noEnter, paste := false, false
	c := &cobra.Command{
		Use:   "type UNIT [TEXT ...]",
		Short: "Type into a unit's terminal",
		Long: `Type text, then Enter, into the terminal of a running unit. Several arguments are
joined by spaces. --key presses keys after the text: enter, esc, tab, up, pgdown, f5,
ctrl+c, alt+x, shift+right. With only --key, or with --no-enter, Enter is not pressed.`,
		Example: "  omnivigil type migrate y\n  omnivigil type editor --key esc --key : \n" +
			"  omnivigil type console \"select 1;\"",
		ValidArgsFunction: CompleteUnits(of),
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 0 {
				return exit.Refuse("omnivigil: into which unit's terminal? %s", c.UseLine())
			}
			if len(args) == 1 && len(keys) == 0 {
				return exit.Refuse("omnivigil: what is to be typed into %s? %s", args[0], c.UseLine())
			}
			in := api.Input{
				Unit:  args[0],
				Text:  strings.Join(args[1:], " "),
				Paste: paste,
				Keys:  keys,
				Face:  os.Getpid(),
			}
			if len(args) > 1 && !noEnter {
				in.Keys = append([]string{"enter"}, keys...)
			}
			return a.on(func(ctx context.Context, p *apiclient.Client) error { return p.Input(ctx, in) })
		},
	}
	c.Flags().StringArrayVar(&keys, "key", nil, "press this key after the text (repeatable)")
	c.Flags().BoolVar(&noEnter, "no-enter", false, "do not press Enter after the text")
	c.Flags().BoolVar(&paste, "paste", false, "send the text as bracketed paste")
	return c
}

// screenCommand shows a unit's terminal.
func screenCommand(of Settings) *cobra.Command {
	a := &asking{of: of}
	return a.flag(&cobra.Command{
		Use:   "screen UNIT",
		Short: "Print the screen of a unit's terminal",
		Long: `Print the terminal screen of a unit's newest run, or its last screen if the run has
ended. --json prints cells with their colors, the cursor, and whether the unit waits
for input.`,
		Args: cobra.ExactArgs(1), ValidArgsFunction: CompleteUnits(of),
		RunE: func(_ *cobra.Command, args []string) error {
			return a.on(func(ctx context.Context, p *apiclient.Client) error {
				screen, err := p.Screen(ctx, args[0])
				if err != nil {
					return err
				}
				if a.asJSON {
					return PrintJSON(screen)
				}
				fmt.Print(ScreenText(screen, Colors()))
				return nil
			})
		},
	})
}

// ScreenText is the text of a terminal, without the empty rows at its end.
func ScreenText(screen api.Screen, styled bool) string {
	var b strings.Builder
	lines := screen.Lines
	for len(lines) > 0 && len(lines[len(lines)-1].Parts) == 0 {
		lines = lines[:len(lines)-1]
	}
	for _, line := range lines {
		b.WriteString(strings.TrimRight(terminal.Draw(line, screen.Size.Cols, styled), " ") + "\n")
	}
	return b.String()
}
