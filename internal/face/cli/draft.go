package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/aymanbagabas/go-udiff"
	"github.com/spf13/cobra"

	"omnivigil/internal/api/exit"
	"omnivigil/internal/draft"
	"omnivigil/internal/face/cli/ask"
	"omnivigil/internal/files"
	"omnivigil/internal/plan"
	"omnivigil/internal/plan/edit"
	"omnivigil/internal/text/escape"
)

func draftCommand(at *location) *cobra.Command {
	printed, observed := false, false
	var o observeOptions
	c := &cobra.Command{
		Use:   "draft",
		Short: "Draft an omnivigil.toml from the project's manifests",
		Long: `Read the project's manifests, scripts and targets, and write an omnivigil.toml with
services, tasks and suites, what they watch and what they need. The command reports
from which file and line each unit was concluded, what is a guess, and what was left
out and why. Nothing is run. If the file exists, the difference is shown, and the file
is replaced only after you agree. If nothing is recognized, no file is written.

With --observe, the drafted units are then run under observation, and what is missing in
the draft is proposed, as omnivigil observe --write does.`,
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			err := writeDraft(*at, printed, o.yes)
			if err != nil || printed || !observed {
				return err
			}
			fmt.Println()
			o.write = true
			return observe(*at, o)
		},
	}
	c.Flags().BoolVar(&printed, "print", false, "print the file instead of writing it")
	c.Flags().BoolVar(&o.yes, "yes", false, "replace an existing file, and write what is missing, without asking")
	c.Flags().BoolVar(&observed, "observe", false,
		"run the drafted units under observation and propose what is missing")
	c.Flags().BoolVar(&o.trust, "trust", false, "with --observe: run this project's commands without asking")
	return c
}

func writeDraft(at location, printed, yes bool) error {
	root, err := filepath.Abs(at.dir)
	if err != nil {
		return exit.Refuse("omnivigil: %v", err)
	}
	if at.file != "" {
		return exit.Refuse("omnivigil: draft reads a directory; pass one with -C")
	}
	d, err := draft.Of(root)
	if err != nil {
		return exit.With(exit.Failed, err)
	}
	if d.Text == "" {
		err := fmt.Errorf("nothing in %s was recognized, so no file was written; looked for %s%s",
			root, d.Looked, unread(d.Left))
		return exit.With(exit.Failed, err)
	}
	if printed {
		fmt.Print(escape.Lines(d.Text))
		return nil
	}
	file := filepath.Join(root, plan.FileName)
	if resolved, err := os.Readlink(file); err == nil {
		return exit.Refuse(
			"omnivigil: %s is a symbolic link to %s, and was not replaced. Draft in that directory with -C, or "+
				"remove the link.",
			file,
			resolved,
		)
	}
	before, err := files.Read(file, files.Sane)
	switch {
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		return exit.With(exit.Failed, err)
	case string(before) == d.Text:
		fmt.Printf("%s already matches the draft.\n", escape.Text(file))
		return nil
	case !yes:
		fmt.Print(escape.Lines(udiff.Unified(plan.FileName, plan.FileName+" as drafted", string(before), d.Text)))
		if !ask.CanAsk() {
			return exit.Refuse("omnivigil: %s exists and was not replaced; pass --yes to replace it", file)
		}
		fmt.Printf("\n%s exists. Replace it? [y/N] ", escape.Text(file))
		if ask.Answer(bufio.NewReader(os.Stdin)) != "y" {
			return exit.Refuse("Nothing was written.")
		}
	}
	if err := edit.Replace(file, []byte(d.Text)); err != nil {
		return exit.With(exit.Failed, err)
	}
	fmt.Printf("Wrote %s:\n\n  %s\n", escape.Text(shorten(root, file)), escape.Lines(strings.Join(d.Notes, "\n  ")))
	if len(d.Left) > 0 {
		fmt.Printf("\nLeft out:\n\n  %s\n", escape.Lines(strings.Join(d.Left, "\n  ")))
	}
	fmt.Print("\nRead it, then: omnivigil check, omnivigil observe (does the draft agree with what the\n" +
		"units do?), and omnivigil start.\n")
	return nil
}

// unread adds what was found and could not be used to a message.
func unread(left []string) string {
	if len(left) == 0 {
		return ""
	}
	return "; found: " + strings.Join(left, "; ")
}
