// Package cli is the command line: it parses arguments, calls the packages that do the work, and turns their results
// into exit statuses. It starts supervisors and runs the faces of this process. Commands that query a running project
// are in package client. Start reading at Main and command.
package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"omnivigil/internal/api"
	"omnivigil/internal/api/exit"
	"omnivigil/internal/face/cli/personal"
	"omnivigil/internal/face/cli/store"
	"omnivigil/internal/face/client"
	"omnivigil/internal/face/client/exporting"
	"omnivigil/internal/face/client/history"
	"omnivigil/internal/plan"
	"omnivigil/internal/plan/document"
	"omnivigil/internal/plan/settings"
	"omnivigil/internal/supervisor"
	"omnivigil/internal/text/escape"
	"omnivigil/internal/text/format"
	"omnivigil/internal/text/suggest"
)

// Main runs the command line of the process and returns its exit status.
func Main() int {
	root := command()
	withoutPackages(root)
	err := root.Execute()
	if err == nil {
		return exit.Fine
	}
	var o exit.Outcome
	if errors.Is(err, api.ErrSilent) {
		err = exit.With(exit.TimedOut, err)
	}
	if !errors.As(err, &o) {
		o = exit.Outcome{Code: exit.Usage, Text: "omnivigil: " + err.Error()}
		if errors.As(err, new(misuse)) {
			o.Text += "\n" + suggestion(root, os.Args[1:])
		}
	}
	if o.Text != "" {
		fmt.Fprintln(os.Stderr, escape.Lines(o.Text))
	}
	return o.Code
}

// misuse is an error in the command line: a command or flag that does not exist.
type misuse struct{ error }

// noCommand refuses a first argument that is not a command.
func noCommand(_ *cobra.Command, args []string) error {
	if len(args) == 0 {
		return nil
	}
	return misuse{fmt.Errorf("unknown command %q", args[0])}
}

// suggestion is the alternative to a command that does not exist.
func suggestion(root *cobra.Command, words []string) string {
	var names []string
	for _, c := range root.Commands() {
		if !c.Hidden {
			names = append(names, c.Name())
		}
	}
	for _, w := range words {
		if strings.HasPrefix(w, "-") {
			continue
		}
		if near := suggest.Name(w, names); near != "" && near != w {
			return fmt.Sprintf("Did you mean omnivigil %s?", near)
		}
		break
	}
	return "Try omnivigil --help."
}

// location determines the project.
type location struct{ file, dir string }

func command() *cobra.Command {
	var at location
	var opts startOptions
	root := &cobra.Command{
		Use:   "omnivigil",
		Short: "Supervise the processes of a development project",
		Long: `Omnivigil supervises the processes of a development project. Servers restart and
tasks rerun when the files they watch change. One screen shows what every process
is doing, whether it runs the code just saved, and if not, why.

Without a command, omnivigil starts the project in the current directory, as
"omnivigil start" does.`,
		Version:       version(),
		SilenceErrors: true,
		SilenceUsage:  true,
		Args:          noCommand,
		RunE: func(*cobra.Command, []string) error {
			return start(at, opts, nil)
		},
	}
	root.PersistentFlags().StringVarP(&at.file, "file", "f", "", "settings file")
	root.PersistentFlags().StringVarP(&at.dir, "dir", "C", "", "project directory (default: the current directory)")
	root.CompletionOptions.HiddenDefaultCmd = true
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return misuse{err} })
	opts.flags(root)
	root.AddCommand(
		startCommand(&at),
		attachCommand(&at),
		onCommand(&at),
		onceCommand(&at),
		observeCommand(&at),
		checkCommand(&at),
		draftCommand(&at),
		schemaCommand(),
		store.Command(),
		whyCommand(&at),
		demoCommand(),
	)
	root.AddCommand(client.Commands(&at)...)
	root.AddCommand(exporting.Command(&at), history.Command(&at))
	root.AddCommand(
		mcpCommand(&at),
		supervisor.Command(&at.file),
		keeperCommand(),
		actCommand(),
		replayCommand(),
	)
	return root
}

// version is the version of the build: a module version, or the commit.
func version() string {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return "unknown"
	}
	// A version that the tool derives from the commit tells less than the commit.
	if v := info.Main.Version; v != "" && v != "(devel)" && !strings.HasPrefix(v, "v0.0.0-") {
		return v
	}
	built := map[string]string{}
	for _, s := range info.Settings {
		built[s.Key] = s.Value
	}
	commit := built["vcs.revision"]
	if len(commit) < 12 {
		return "built from source with " + info.GoVersion
	}
	text := "built from " + commit[:12]
	if at, err := time.Parse(time.RFC3339, built["vcs.time"]); err == nil {
		text += " of " + at.Format(time.DateOnly)
	}
	if built["vcs.modified"] == "true" {
		text += ", with changes"
	}
	return text + ", with " + info.GoVersion
}

// open finds and reads the project's settings.
func (at location) open() (*plan.Plan, error) {
	file, err := at.Find()
	if err != nil {
		return nil, err
	}
	p, err := settings.Read(file)
	var problems document.Problems
	switch {
	case errors.As(err, &problems):
		return nil, exit.Refuse("%s\n%s; nothing was started.", problems, format.Count(len(problems), "problem"))
	case err != nil:
		return nil, exit.Refuse("omnivigil: %v", err)
	}
	return p, nil
}

// Selection implements client.Settings.
func (*location) Selection(name string) ([]string, error) { return personal.Selection(name) }

// Flag adds --file to a command, without its short form, which has another meaning there.
func (at *location) Flag(c *cobra.Command) {
	c.Flags().StringVar(&at.file, "file", "", "settings file")
}

// Find returns the settings file: the one named, or the nearest one in this directory or above it, including the
// settings of a running omnivigil on command.
func (at location) Find() (string, error) {
	if at.file != "" {
		return at.file, nil
	}
	if at.dir != "" {
		file := filepath.Join(at.dir, plan.FileName)
		if _, err := os.Stat(file); err != nil {
			return "", exit.Refuse("omnivigil: there is no %s in %s", plan.FileName, at.dir)
		}
		return file, nil
	}
	here, err := os.Getwd()
	if err != nil {
		return "", exit.Refuse("omnivigil: get the current directory: %v", err)
	}
	for dir := here; ; dir = filepath.Dir(dir) {
		file := filepath.Join(dir, plan.FileName)
		_, err := os.Stat(file)
		if err == nil {
			return shorten(here, file), nil
		}
		if file := runningOn(dir); file != "" {
			return file, nil
		}
		if !errors.Is(err, fs.ErrNotExist) || dir == filepath.Dir(dir) {
			return "", exit.Refuse(noFile, here)
		}
	}
}

// shorten returns the file relative to the working directory, if that is shorter.
func shorten(here, file string) string {
	if rel, err := filepath.Rel(here, file); err == nil && len(rel) < len(file) {
		return rel
	}
	return file
}

const noFile = `omnivigil: there is no omnivigil.toml in %s or above it.

To run one command again whenever files change, none is needed:

    omnivigil on -- COMMAND

For a project, omnivigil draft writes one from what is there; look at it, and start it with
omnivigil start. Name one elsewhere with -f FILE, or see a project at work: omnivigil demo`
