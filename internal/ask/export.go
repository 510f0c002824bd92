package ask

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"omnivigil/internal/api"
	"omnivigil/internal/exit"
	"omnivigil/internal/export"
	"omnivigil/internal/home"
	"omnivigil/internal/lines"
	"omnivigil/internal/query"
)

// exporting writes what a project shows in an open format.
type exporting struct {
	of           Settings
	format, file string
	filter       []string
}

func exportCommand(of Settings) *cobra.Command {
	x := &exporting{of: of}
	c := &cobra.Command{
		Use:   "export stream [--format FORMAT] [-o FILE]",
		Short: "Write the output as text, JSON lines or an HTML page, of the running project or its newest session",
		Example: `  omnivigil export stream -o output.html
  omnivigil export stream --only 'unit=berths level=warning' --format json`,
		Args:      cobra.MatchAll(cobra.ExactArgs(1), cobra.OnlyValidArgs),
		ValidArgs: []string{"stream"},
		RunE:      func(*cobra.Command, []string) error { return x.run() },
	}
	of.Flag(c)
	c.Flags().StringVar(&x.format, "format", "", `text, json (an object a line) or html; else as the file's name says`)
	c.Flags().StringVarP(&x.file, "output", "o", "", "the file, which must not be there yet; else it is printed")
	c.Flags().StringArrayVar(&x.filter, "only", nil, "only lines with these words, as in omnivigil logs")
	return c
}

func (x *exporting) run() error {
	filter := strings.Join(x.filter, " ")
	if _, err := query.Parse(filter); err != nil {
		return exit.Refuse("omnivigil: --only: %v", err)
	}
	if x.format == "" {
		x.format = export.FormatOf(x.file)
	}
	if !export.Known(x.format) {
		return exit.Refuse("omnivigil: --format must be text, json or html, not %q", x.format)
	}
	log, snap, err := x.source()
	if err != nil {
		return err
	}
	if x.file == "" {
		_, err = export.Stream(context.Background(), log, snap, export.Part{Filter: filter}, x.format, os.Stdout)
	} else {
		var n int
		if n, err = export.StreamFile(context.Background(), log, snap, export.Part{Filter: filter}, x.format, x.file); err == nil {
			fmt.Printf("%d lines written to %s\n", n, x.file)
		}
	}
	if err != nil {
		return exit.With(exit.Failed, err)
	}
	return nil
}

// source returns the log of the running project, or else of its newest session.
func (x *exporting) source() (api.Log, *api.Snapshot, error) {
	file, err := x.of.FindRunning()
	if err != nil {
		return nil, nil, err
	}
	ctx := context.Background()
	p, err := Connect(ctx, file)
	if err == nil {
		snap, err := p.Snapshot(ctx)
		if err != nil {
			return nil, nil, exit.With(exit.Failed, err)
		}
		return p, snap, nil
	}
	if !errors.Is(err, api.ErrNotRunning) {
		return nil, nil, exit.With(exit.Failed, err)
	}
	if file, err = filepath.Abs(file); err != nil {
		return nil, nil, exit.With(exit.Failed, err)
	}
	found := lines.Sessions(home.Logs(file))
	if len(found) == 0 {
		return nil, nil, exit.Refuse("omnivigil: the project of %s does not run, and has left no log.", file)
	}
	return lines.Past(found[0]), &api.Snapshot{Project: api.About{Name: filepath.Base(filepath.Dir(file))}}, nil
}
