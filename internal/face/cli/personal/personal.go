// Package personal is what belongs to one user on all projects, for the command line: the personal file, checked, and
// the arguments typed in earlier sessions. Start reading at Read.
package personal

import (
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"omnivigil/internal/api/exit"
	"omnivigil/internal/face/tui"
	"omnivigil/internal/plan/adhoc"
	"omnivigil/internal/plan/document"
	"omnivigil/internal/plan/preferences"
	"omnivigil/internal/store/paths"
)

// Read reads the personal file, and returns what is wrong with it.
func Read() (*preferences.Preferences, []string) {
	actions, _ := tui.Actions()
	p, err := preferences.Read(paths.Personal(), actions)
	var found document.Problems
	switch {
	case errors.As(err, &found):
		var problems []string
		for _, problem := range found {
			problems = append(problems, problem.String())
		}
		return p, problems
	case err != nil:
		return p, []string{err.Error()}
	}
	return p, nil
}

func habitsOf(p *preferences.Preferences) tui.Habits {
	return tui.Habits{
		Theme: p.Theme, Notify: p.Notify, Editor: p.Editor, Leave: p.Leave, Keys: p.Keys, Selections: p.Selections,
	}
}

// Habits returns the user's preferences, and a function that tells later whether they have changed.
func Habits() (h tui.Habits, problems []string, now func() (tui.Habits, []string, bool)) {
	stamp := func() (at time.Time, size int64) {
		if info, err := os.Stat(paths.Personal()); err == nil {
			return info.ModTime(), info.Size()
		}
		return time.Time{}, -1
	}
	at, size := stamp()
	p, problems := Read()
	now = func() (tui.Habits, []string, bool) {
		newAt, newSize := stamp()
		if newAt.Equal(at) && newSize == size {
			return tui.Habits{}, nil, false
		}
		at, size = newAt, newSize
		p, problems := Read()
		return habitsOf(p), problems, true
	}
	return habitsOf(p), problems, now
}

// Check prints what is wrong with the personal file, if there is one, and reports whether it is valid.
func Check(out io.Writer) bool {
	file := paths.Personal()
	if _, err := os.Stat(file); err != nil {
		return true
	}
	p, problems := Read()
	problems = append(problems, tui.Clashes(p.Keys)...)
	if len(problems) > 0 {
		fmt.Fprintf(out, "\nyour own settings, %s:\n%s\n", file, strings.Join(problems, "\n"))
		return false
	}
	fmt.Fprintf(out, "\nyour own settings, %s, are fine", file)
	if len(p.Shortcuts) > 0 {
		fmt.Fprintf(out, "; shortcuts: @%s", strings.Join(slices.Sorted(maps.Keys(p.Shortcuts)), ", @"))
	}
	if len(p.Selections) > 0 {
		fmt.Fprintf(out, "; selections: @%s", strings.Join(slices.Sorted(maps.Keys(p.Selections)), ", @"))
	}
	fmt.Fprintln(out)
	return true
}

// SayKeys lists the actions with their keys.
func SayKeys(out io.Writer) {
	p, _ := Read()
	names, keys := tui.Actions()
	for _, name := range names {
		have := keys[name]
		if own, chosen := p.Keys[name]; chosen {
			have = own
		}
		fmt.Fprintf(out, "%-20s %s\n", name, strings.Join(have, " "))
	}
}

// Shortcut returns the command for words such as "@NAME WORD...".
func Shortcut(words []string) (adhoc.Command, error) {
	p, problems := Read()
	if len(problems) > 0 {
		return adhoc.Command{}, exit.Refuse("omnivigil: your own settings: %s", strings.Join(problems, "\n"))
	}
	name := strings.TrimPrefix(words[0], "@")
	s, ok := p.Shortcuts[name]
	if !ok {
		return adhoc.Command{}, exit.Refuse(
			"omnivigil: there is no shortcut @%s in %s; write one: [shortcut.%s] with run = [\"...\"]",
			name,
			paths.Personal(),
			name,
		)
	}
	return adhoc.Command{
		Words: s.With(words[1:]), Globs: s.Watch, Ignore: s.Ignore, EnvFiles: s.EnvFiles, Then: s.Then,
		Debounce: s.Debounce, Ready: s.Ready, Kind: adhoc.Kind(s.Kind), Name: name,
	}, nil
}
