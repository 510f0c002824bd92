// Package cli is the command line: it parses arguments, calls the packages that do the work, and turns their results
// into exit statuses. It starts supervisors and runs the faces of this process. Commands that query a running project
// are in package client. Start reading at Main and command.
package cli

import (
	"errors"
	"fmt"
	"os"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"omnivigil/internal/api"
	"omnivigil/internal/api/exit"
	"omnivigil/internal/face/cli/location"
	"omnivigil/internal/face/cli/manual"
	"omnivigil/internal/face/cli/share"
	"omnivigil/internal/face/cli/store"
	"omnivigil/internal/face/client"
	"omnivigil/internal/face/client/exporting"
	"omnivigil/internal/face/client/history"
	"omnivigil/internal/face/client/projects"
	"omnivigil/internal/plan"
	"omnivigil/internal/supervisor"
	"omnivigil/internal/text/escape"
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

func command() *cobra.Command {
	var at location.Location
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
	root.PersistentFlags().StringVarP(&at.File, "file", "f", "", "settings file")
	root.PersistentFlags().StringVarP(&at.Dir, "dir", "C", "", "project directory (default: the current directory)")
	root.PersistentFlags().StringVar(&at.At, "at", "",
		"a project on another machine, as ssh://[USER@]HOST/PATH; for attach, start and commands on a running project")
	root.PersistentFlags().BoolVar(&at.Alone, "alone", false,
		"in the directory of a member, act on it by itself, not as a part of its project")
	ofRunning := client.Commands(&at)
	attach, begin := attachCommand(&at), startCommand(&at)
	root.PersistentPreRunE = func(c *cobra.Command, words []string) error {
		if at.At != "" && !slices.Contains(append(ofRunning, attach, begin, root), c) {
			return exit.Refuse("omnivigil: --at is for attach, start and commands on a running project")
		}
		return at.Complete(c, words)
	}
	root.CompletionOptions.HiddenDefaultCmd = true
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return misuse{err} })
	opts.flags(root)
	root.AddCommand(
		begin,
		attach,
		onCommand(&at),
		onceCommand(&at),
		observeCommand(&at),
		checkCommand(&at),
		draftCommand(&at),
		schemaCommand(),
		store.Command(),
		share.Command(func() (*plan.Plan, error) { return at.Open() }),
		projects.Command(),
		manual.Command(version()),
		whyCommand(&at),
		demoCommand(),
	)
	root.AddCommand(ofRunning...)
	root.SetHelpCommand(manual.Help())
	root.AddCommand(exporting.Command(&at), history.Command(&at))
	root.AddCommand(
		mcpCommand(&at),
		lspCommand(),
		supervisor.Command(&at.File),
		keeperCommand(),
		bridgeCommand(&at),
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
