// Package location determines which project a command is about: from its flags, or from the directory in which it was
// called, which may be that of a member of a project. Start reading at Location.
package location

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"omnivigil/internal/api/exit"
	"omnivigil/internal/face/cli/personal"
	"omnivigil/internal/face/remote"
	"omnivigil/internal/plan"
	"omnivigil/internal/plan/document"
	"omnivigil/internal/plan/settings"
	"omnivigil/internal/store/members"
	"omnivigil/internal/store/paths"
	"omnivigil/internal/text/format"
)

// Location determines the project. The zero value is the current directory.
type Location struct {
	File  string // the settings file; empty: it is looked for
	Dir   string // the directory; empty: the current one
	Alone bool   // a member is a project of its own
	At    string // an address on another machine, where the project runs; empty: on this one
}

// Open finds and reads the project's settings.
func (at Location) Open() (*plan.Plan, error) {
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

// Remote implements client.Settings.
func (at Location) Remote() (*remote.Address, error) {
	if at.At == "" {
		return nil, nil
	}
	a, err := remote.Parse(at.At)
	if err != nil {
		return nil, exit.Refuse("omnivigil: --at: %v", err)
	}
	return &a, nil
}

// IsDefault reports whether the project is not named.
func (at Location) IsDefault() bool { return at.File == "" && at.Dir == "" }

// Selection implements client.Settings.
func (*Location) Selection(name string) ([]string, error) { return personal.Selection(name) }

// Flag adds --file to a command, without its short form, which has another meaning there.
func (at *Location) Flag(c *cobra.Command) {
	c.Flags().StringVar(&at.File, "file", "", "settings file")
}

// Find returns the settings file of the project: the one named, or that of the project that has the nearest one in this
// directory or above it.
func (at Location) Find() (string, error) {
	own, err := at.own()
	if err != nil || at.File != "" {
		return own, err
	}
	file := at.project(own)
	if here, err := os.Getwd(); err == nil && file != own {
		return Shorten(here, file), nil
	}
	return file, nil
}

// own returns the settings file that was named, or the nearest one in this directory or above it, including the
// settings of a running omnivigil on command.
func (at Location) own() (string, error) {
	if at.File != "" {
		return at.File, nil
	}
	if at.Dir != "" {
		file := filepath.Join(at.Dir, plan.FileName)
		if _, err := os.Stat(file); err != nil {
			return "", exit.Refuse("omnivigil: there is no %s in %s", plan.FileName, at.Dir)
		}
		return file, nil
	}
	here, err := os.Getwd()
	if err != nil {
		return "", exit.Refuse("omnivigil: get the current directory: %v", err)
	}
	return nearest(here)
}

// Above returns the settings file of the project of a directory, as Find does.
func Above(dir string) (string, error) {
	own, err := nearest(dir)
	if err != nil {
		return "", err
	}
	if !filepath.IsAbs(own) {
		own = filepath.Join(dir, own)
	}
	return Location{}.project(own), nil
}

// nearest returns the nearest settings file in a directory or above it.
func nearest(here string) (string, error) {
	for dir := here; ; dir = filepath.Dir(dir) {
		file := filepath.Join(dir, plan.FileName)
		_, err := os.Stat(file)
		if err == nil {
			return Shorten(here, file), nil
		}
		if file := runningOn(dir); file != "" {
			return file, nil
		}
		if !errors.Is(err, fs.ErrNotExist) || dir == filepath.Dir(dir) {
			return "", exit.Refuse(noFile, here)
		}
	}
}

// Shorten returns the file relative to the working directory, if that is shorter.
func Shorten(here, file string) string {
	if rel, err := filepath.Rel(here, file); err == nil && len(rel) < len(file) {
		return rel
	}
	return file
}

// project returns the settings file of the project that the settings in a file are a member of, or the file itself. A
// member that runs by itself, while its project does not, is a project.
func (at Location) project(own string) string {
	abs, err := filepath.Abs(own)
	if err != nil || at.Alone {
		return own
	}
	if resolved, err := filepath.EvalSymlinks(abs); err == nil {
		abs = resolved
	}
	dir := filepath.Dir(abs)
	above := settings.Project(abs)
	if above == "" {
		above = members.ProjectOf(paths.State(), dir)
		if above == "" || !settings.HasMember(above, dir) {
			return own
		}
	}
	if Runs(abs) && !Runs(above) {
		return own
	}
	return above
}

// member returns the member of a project in whose directory the command was called; empty: none.
func (at Location) member(p *plan.Plan) string {
	own, err := at.own()
	if err != nil || len(p.Members) == 0 {
		return ""
	}
	if abs, err := filepath.Abs(own); err == nil {
		own = abs
	}
	if resolved, err := filepath.EvalSymlinks(own); err == nil {
		own = resolved
	}
	for _, m := range p.Members {
		file := m.File
		if resolved, err := filepath.EvalSymlinks(file); err == nil {
			file = resolved
		}
		if file == own {
			return m.Name
		}
	}
	return ""
}

// Complete replaces short names among the arguments of a command that takes names of units: those of the member in
// whose directory it was called come first.
func (at Location) Complete(c *cobra.Command, words []string) error {
	if c.ValidArgsFunction == nil || len(words) == 0 || at.At != "" {
		return nil
	}
	file, err := at.Find()
	if err != nil || !settings.HasMembers(file) {
		return nil // the command reports it, if it needs the settings
	}
	p, err := settings.Read(file)
	if err != nil {
		return nil
	}
	member := at.member(p)
	if dash := c.ArgsLenAtDash(); dash >= 0 {
		words = words[:dash]
	}
	for i, word := range words {
		words[i] = p.FullName(member, word)
	}
	return nil
}

// Wanted are the units that start by default: all, or those of the member in whose directory the command was called.
func (at Location) Wanted(p *plan.Plan, units []string) []string {
	member := at.member(p)
	if len(units) > 0 || member == "" {
		return units
	}
	for _, u := range p.Units {
		if u.Member == member && !u.Manual {
			units = append(units, u.Name)
		}
	}
	return units
}

const noFile = `omnivigil: there is no omnivigil.toml in %s or above it.

To run one command again whenever files change, none is needed:

    omnivigil on -- COMMAND

For a project, omnivigil draft writes one from what is there; look at it, and start it with
omnivigil start. Name one elsewhere with -f FILE, or see a project at work: omnivigil demo`

// FindRunning implements client.Settings.
func (at Location) FindRunning() (string, error) {
	file, err := at.Find()
	if err != nil && at.File == "" { // perhaps on a branch without settings
		if running := at.runningAbove(); running != "" {
			return running, nil
		}
	}
	if err != nil || at.File != "" || Runs(file) {
		return file, err
	}
	if typed := runningOn(filepath.Dir(file)); typed != "" {
		return typed, nil
	}
	return file, nil
}

// runningAbove returns the settings file of the project that runs in this directory, or one above it, although the
// file does not exist; empty: none does.
func (at Location) runningAbove() string {
	dir, err := filepath.Abs(at.Dir)
	if err != nil {
		return ""
	}
	for {
		if file := filepath.Join(dir, plan.FileName); Runs(file) {
			return file
		}
		up := filepath.Dir(dir)
		if up == dir {
			return ""
		}
		dir = up
	}
}

// Runs reports whether the project with a settings file is running.
func Runs(file string) bool {
	place, err := paths.Place(file)
	if err != nil {
		return false
	}
	return place.IsLocked()
}

// runningOn returns the settings of the newest running command that was typed in a directory, or "".
func runningOn(folder string) string {
	files, _ := filepath.Glob(filepath.Join(paths.Typed(folder), "*", "*.toml"))
	newest, when := "", time.Time{}
	for _, file := range files {
		if info, err := os.Stat(file); err == nil && info.ModTime().After(when) && Runs(file) {
			newest, when = file, info.ModTime()
		}
	}
	return newest
}
