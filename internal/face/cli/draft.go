package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/aymanbagabas/go-udiff"
	"github.com/spf13/cobra"

	"omnivigil/internal/api/exit"
	"omnivigil/internal/draft"
	"omnivigil/internal/face/cli/ask"
	"omnivigil/internal/face/cli/location"
	"omnivigil/internal/files"
	"omnivigil/internal/plan"
	"omnivigil/internal/plan/edit"
	"omnivigil/internal/text/escape"
)

func draftCommand(at *location.Location) *cobra.Command {
	printed, observed, parted := false, false, false
	var o observeOptions
	c := &cobra.Command{
		Use:   "draft",
		Short: "Draft an omnivigil.toml from the project's manifests",
		Long: `Read the project's manifests, scripts and targets, and write an omnivigil.toml with
services, tasks and suites, what they watch and what they need. The command reports
from which file and line each unit was concluded, what is a guess, and what was left
out and why. Nothing is run. If the file exists, the difference is shown, and the file
is replaced only after you agree. If nothing is recognized, no file is written.

With --members, every directory that has a manifest of its own gets a file, and the file
of the project names them.

With --observe, the drafted units are then run under observation, and what is missing in
the draft is proposed, as omnivigil observe --write does.`,
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			err := writeDraft(*at, printed, parted, o.yes)
			if err != nil || printed || !observed {
				return err
			}
			fmt.Println()
			o.write = true
			return observe(*at, o)
		},
	}
	c.Flags().BoolVar(&printed, "print", false, "print the file instead of writing it")
	c.Flags().BoolVar(&parted, "members", false, "write a file for each directory that has a manifest of its own")
	c.Flags().BoolVar(&o.yes, "yes", false, "replace an existing file, and write what is missing, without asking")
	c.Flags().BoolVar(&observed, "observe", false,
		"run the drafted units under observation and propose what is missing")
	c.Flags().BoolVar(&o.trust, "trust", false, "with --observe: run this project's commands without asking")
	return c
}

func writeDraft(at location.Location, printed, parted, yes bool) error {
	root, err := filepath.Abs(at.Dir)
	if err != nil {
		return exit.Refuse("omnivigil: %v", err)
	}
	if at.File != "" {
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
	texts := map[string]string{".": d.Text} // by directory
	if parted {
		if d.Members == nil {
			return exit.Refuse(
				"omnivigil: fewer than two directories in %s have a manifest of their own; leave out --members", root)
		}
		texts = maps.Clone(d.Members.Files)
		texts["."] = d.Members.Text
	}
	dirs, wrote := slices.Sorted(maps.Keys(texts)), false
	for _, dir := range dirs {
		file := filepath.Join(root, filepath.FromSlash(dir), plan.FileName)
		switch {
		case printed && parted:
			fmt.Printf("# %s\n\n%s\n", escape.Text(location.Shorten(root, file)), escape.Lines(texts[dir]))
		case printed:
			fmt.Print(escape.Lines(texts[dir]))
		default:
			did, err := writeDrafted(root, file, texts[dir], yes)
			if err != nil {
				return err
			}
			wrote = wrote || did
		}
	}
	if !wrote {
		return nil
	}
	fmt.Printf("\n  %s\n", escape.Lines(strings.Join(d.Notes, "\n  ")))
	if len(d.Left) > 0 {
		fmt.Printf("\nLeft out:\n\n  %s\n", escape.Lines(strings.Join(d.Left, "\n  ")))
	}
	if d.Members != nil && !parted {
		fmt.Printf("\n%d directories have manifests of their own: omnivigil draft --members writes a file for each.\n",
			len(d.Members.Files))
	}
	fmt.Print("\nRead it, then: omnivigil check, omnivigil observe (does the draft agree with what the\n" +
		"units do?), and omnivigil start.\n")
	return nil
}

// writeDrafted writes a file, and asks before it replaces another one. It reports whether it was written: it may be
// there already.
func writeDrafted(root, file, text string, yes bool) (wrote bool, err error) {
	if resolved, err := os.Readlink(file); err == nil {
		return false, exit.Refuse(
			"omnivigil: %s is a symbolic link to %s, and was not replaced. Draft in that directory with -C, or "+
				"remove the link.",
			file,
			resolved,
		)
	}
	name := escape.Text(location.Shorten(root, file))
	before, err := files.Read(file, files.Sane)
	switch {
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		return false, exit.With(exit.Failed, err)
	case string(before) == text:
		fmt.Printf("%s already matches the draft.\n", name)
		return false, nil
	case !yes:
		fmt.Print(escape.Lines(udiff.Unified(name, name+" as drafted", string(before), text)))
		if !ask.CanAsk() {
			return false, exit.Refuse("omnivigil: %s exists and was not replaced; pass --yes to replace it", file)
		}
		fmt.Printf("\n%s exists. Replace it? [y/N] ", name)
		if ask.Answer(bufio.NewReader(os.Stdin)) != "y" {
			return false, exit.Refuse("Nothing was written.")
		}
	}
	if err := edit.Replace(file, []byte(text)); err != nil {
		return false, exit.With(exit.Failed, err)
	}
	fmt.Printf("Wrote %s.\n", name)
	return true, nil
}

// unread adds what was found and could not be used to a message.
func unread(left []string) string {
	if len(left) == 0 {
		return ""
	}
	return "; found: " + strings.Join(left, "; ")
}
