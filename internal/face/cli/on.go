package cli

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"omnivigil/internal/api/exit"
	"omnivigil/internal/api/socket"
	"omnivigil/internal/face/cli/ask"
	"omnivigil/internal/face/cli/location"
	"omnivigil/internal/face/cli/personal"
	"omnivigil/internal/face/client"
	"omnivigil/internal/plan"
	"omnivigil/internal/plan/adhoc"
	"omnivigil/internal/plan/document"
	"omnivigil/internal/plan/edit"
	"omnivigil/internal/plan/settings"
	"omnivigil/internal/store/paths"
	"omnivigil/internal/supervisor"
	"omnivigil/internal/text/escape"
	"omnivigil/internal/text/format"
	"omnivigil/internal/watch/pattern"
)

// onOptions are the flags of the command on.
type onOptions struct {
	command       adhoc.Command
	service, task bool
	save          bool
	start         startOptions
}

func onCommand(at *location.Location) *cobra.Command {
	var o onOptions
	c := &cobra.Command{
		Use:   "on [GLOB...] -- COMMAND [ARG...]  or  on @SHORTCUT [WORD...]",
		Short: "Run a command again whenever files change, without a settings file",
		Long: `Run the command now, and again whenever a file changes that a GLOB matches. Without
a GLOB, every file that version control does not ignore counts. A directory as GLOB
means all files in it. Quote GLOBs, or the shell expands them.

The arguments after -- are passed to the program exactly as typed, without a shell.
A single argument that is not the name of a program is run by the shell:

    omnivigil on -- go test ./...
    omnivigil on 'src/**/*.ts' -- node src/server.ts
    omnivigil on docs -- 'make html && ls -l out'

The command counts as a service when it listens on a port or has been running for
10 s, and as a task when it exits. A change restarts a service; before that, a
change waits until the command exits.

Your personal file can name commands that you often use; {words} is replaced by the
extra arguments: omnivigil on @NAME WORD...`,
		Args: func(c *cobra.Command, words []string) error {
			if len(words) > 0 && strings.HasPrefix(words[0], "@") {
				command, err := personal.Shortcut(words)
				if err != nil {
					return err
				}
				o.shortcut(command)
				return nil
			}
			dash := c.ArgsLenAtDash()
			if dash < 0 {
				return exit.Refuse("omnivigil: the command comes after --, such as: omnivigil on -- go test ./...")
			}
			if dash == len(words) {
				return exit.Refuse("omnivigil: there is no command after --")
			}
			o.command.Globs, o.command.Words = words[:dash], words[dash:]
			return nil
		},
		RunE: func(*cobra.Command, []string) error { return on(*at, o) },
	}
	f := c.Flags()
	f.StringArrayVar(&o.command.Ignore, "ignore", nil, "ignore changes of these files (repeatable)")
	f.DurationVar(
		&o.command.Debounce,
		"debounce",
		0,
		"duration without changes after which a burst of changes counts as one (default 150ms)",
	)
	f.StringVar(
		&o.command.Ready,
		"ready",
		"",
		"run as a service; ready when this port accepts connections, this URL answers, this duration has passed, or "+
			"a line matches this expression",
	)
	f.StringArrayVar(&o.command.EnvFiles, "env-file", nil, "file of environment variables (repeatable)")
	f.StringVar(&o.command.Name, "name", "", "unit name")
	f.StringArrayVar(
		&o.command.Then,
		"then",
		nil,
		"run another command after the previous one has succeeded (repeatable)",
	)
	f.BoolVar(&o.service, "service", false, "run as a service: a change restarts it at once")
	f.BoolVar(&o.task, "task", false, "run as a task: a change waits until it exits")
	f.BoolVar(&o.save, "save", false, "also add the command to omnivigil.toml")
	o.start.flags(c)
	f.Lookup("trust").Usage = "watch a home directory or a very large one without asking"
	c.MarkFlagsMutuallyExclusive("service", "task")
	return c
}

// shortcut adopts the settings of a shortcut for which there is no flag.
func (o *onOptions) shortcut(s adhoc.Command) {
	said := o.command
	o.command = s
	o.command.Ignore = append(o.command.Ignore, said.Ignore...)
	o.command.EnvFiles = append(o.command.EnvFiles, said.EnvFiles...)
	o.command.Then = append(o.command.Then, said.Then...)
	o.command.Name = cmp.Or(said.Name, s.Name)
	o.command.Ready = cmp.Or(said.Ready, s.Ready)
	o.command.Debounce = cmp.Or(said.Debounce, s.Debounce)
}

// on runs a command as a project of its own.
func on(at location.Location, o onOptions) error {
	root, err := filepath.Abs(at.Dir)
	if err != nil {
		return exit.Refuse("omnivigil: %v", err)
	}
	if root, err = filepath.EvalSymlinks(root); err == nil {
		err = os.Chdir(root) // paths are relative to that directory
	}
	if err != nil {
		return exit.Refuse("omnivigil: %v", err)
	}
	switch {
	case at.File != "":
		return exit.Refuse("omnivigil: on needs no settings file; leave -f out, or use omnivigil start")
	case o.service:
		o.command.Kind = adhoc.Service
	case o.task:
		o.command.Kind = adhoc.Task
	}
	o.command.Globs, o.command.Ignore = inside(root, o.command.Globs), inside(root, o.command.Ignore)
	if err := o.command.Check(); err != nil {
		return exit.Refuse("omnivigil: %v", err)
	}
	kept := o.command.Settings()
	o.command.Ignore = append(o.command.Ignore, writtenInto(root)...)
	text := o.command.Settings()
	p, err := keepTyped(root, text)
	if err != nil {
		return err
	}
	place, err := paths.Place(p.File)
	if err != nil {
		return exit.With(exit.Failed, err)
	}
	if running, err := client.At(context.Background(), place); !errors.Is(err, socket.ErrNotRunning) {
		return startAgain(place, running, err, o.start, nil)
	}
	if err := o.prepare(root, kept); err != nil {
		os.RemoveAll(filepath.Dir(p.File))
		return err
	}
	return startWith(place, p, o.start, supervisor.Options{File: p.File, Root: root, Remove: filepath.Dir(p.File)})
}

// prepare asks for consent, and saves a shortcut, before a command is started.
func (o *onOptions) prepare(root, text string) error {
	if !o.start.trust {
		if err := mayWatch(root); err != nil {
			return err
		}
	}
	if !o.save {
		return nil
	}
	if err := edit.Add(plan.FileName, text); err != nil {
		return exit.Refuse("omnivigil: %v\nTry another --name.", err)
	}
	fmt.Fprintf(
		os.Stderr,
		"Added to %s: %s. omnivigil start runs all that is in it.\n",
		plan.FileName,
		format.List(o.command.Units()),
	)
	return nil
}

// inside returns absolute patterns relative to a directory.
func inside(root string, globs []string) []string {
	out := make([]string, len(globs))
	for i, glob := range globs {
		out[i] = glob
		if rel, err := filepath.Rel(root, glob); err == nil && filepath.IsAbs(glob) {
			out[i] = rel
		}
	}
	return out
}

// writtenInto returns patterns for the files in a directory that the output goes to, if that is known: each line
// would be a change.
func writtenInto(root string) []string {
	var files []string
	for _, out := range []string{"/proc/self/fd/1", "/proc/self/fd/2"} {
		file, err := os.Readlink(out)
		if err != nil {
			continue
		}
		if rel, err := filepath.Rel(root, file); err == nil && filepath.IsLocal(rel) && !slices.Contains(files, rel) {
			files = append(files, pattern.Literal(rel))
		}
	}
	return files
}

// keepTyped writes the settings of a typed command where its supervisor reads them.
func keepTyped(root, text string) (*plan.Plan, error) {
	file := paths.TypedFile(root, text)
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return nil, exit.With(exit.Failed, err)
	}
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		return nil, exit.With(exit.Failed, err)
	}
	p, err := settings.ReadFor(file, root)
	var problems document.Problems
	if errors.As(err, &problems) {
		os.RemoveAll(filepath.Dir(file))
		return nil, exit.Refuse("omnivigil: %s", problems.Texts())
	}
	if err != nil {
		return nil, exit.With(exit.Failed, err)
	}
	return p, nil
}

// manyFolders is the number of directories from which a user is asked whether to watch them all.
const manyFolders = 20_000

// mayWatch asks before watching a directory that the user probably does not mean.
func mayWatch(root string) error {
	why := ""
	if dir, err := os.UserHomeDir(); err == nil && dir != "" {
		if resolved, err := filepath.EvalSymlinks(dir); err == nil {
			dir = resolved
		}
		if rel, err := filepath.Rel(root, dir); err == nil && filepath.IsLocal(rel) {
			why = "has your home directory in it"
			if rel == "." {
				why = "is your home directory"
			}
		}
	}
	if why == "" && hasMany(root) {
		why = fmt.Sprintf("has more than %d directories", manyFolders)
	}
	switch {
	case why == "":
		return nil
	case !ask.CanAsk():
		return exit.Refuse(
			"omnivigil: %s %s. Change to the directory that you mean, or use --trust to watch all of it; nothing "+
				"was started.",
			root,
			why,
		)
	}
	fmt.Printf("%s %s. Watch all of it? [y/N] ", escape.Text(root), why)
	if ask.Answer(bufio.NewReader(os.Stdin)) != "y" {
		return exit.Refuse("Nothing was started.")
	}
	return nil
}

// hasMany reports whether a directory has very many subdirectories, or so many that counting takes long.
func hasMany(root string) bool {
	n, until := 0, time.Now().Add(2*time.Second)
	filepath.WalkDir(root, func(_ string, e fs.DirEntry, err error) error {
		switch {
		case err != nil || !e.IsDir():
			return nil
		case e.Name() == ".git" || e.Name() == "node_modules":
			return fs.SkipDir
		}
		if n++; n > manyFolders || n%512 == 0 && time.Now().After(until) {
			n = manyFolders + 1
			return fs.SkipAll
		}
		return nil
	})
	return n > manyFolders
}
