package locate

import (
	"errors"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"

	"omnivigil/internal/text/location"
)

// takesLine is how editors accept a line, by their names, from their manuals.
var takesLine = map[string]string{
	"vi":          "+{line} {file}",
	"vim":         "+{line} {file}",
	"nvim":        "+{line} {file}",
	"view":        "+{line} {file}",
	"ex":          "+{line} {file}",
	"nano":        "+{line},{column} {file}",
	"emacs":       "+{line}:{column} {file}",
	"emacsclient": "+{line}:{column} {file}",
	"micro":       "{file}:{line}:{column}",
	"hx":          "{file}:{line}:{column}",
	"helix":       "{file}:{line}:{column}",
	"kak":         "+{line}:{column} {file}",
	"joe":         "+{line} {file}",
	"ne":          "+{line},{column} {file}",
	"code":        "--goto {file}:{line}:{column}",
	"codium":      "--goto {file}:{line}:{column}",
	"subl":        "{file}:{line}:{column}",
	"zed":         "{file}:{line}:{column}",
	"gedit":       "{file} +{line}:{column}",
	"kate":        "--line {line} --column {column} {file}",
	"idea":        "--line {line} {file}",
	"goland":      "--line {line} {file}",
	"webstorm":    "--line {line} {file}",
	"pycharm":     "--line {line} {file}",
}

// windows are editors that open their own window and need no terminal.
var windows = map[string]bool{
	"code":     true,
	"codium":   true,
	"subl":     true,
	"zed":      true,
	"gedit":    true,
	"kate":     true,
	"idea":     true,
	"goland":   true,
	"webstorm": true,
	"pycharm":  true,
}

// ErrNoEditor: no editor is set.
var ErrNoEditor = errors.New("no editor is set: put one into EDITOR or VISUAL")

// Command returns the command that opens a location in an editor, and whether it needs the terminal. The editor is a
// command, as in VISUAL or EDITOR. {file}, {line} and {column} in it are replaced; without them, the location is
// added in the form that an editor of this name accepts.
func Command(editor string, p location.Location) (cmd *exec.Cmd, terminal bool, err error) {
	words := strings.Fields(editor)
	if len(words) == 0 {
		return nil, false, ErrNoEditor
	}
	name := nameOf(words[0])
	if !strings.Contains(editor, "{file}") {
		form, known := takesLine[name]
		if !known {
			form = "{file}"
		}
		words = append(words, strings.Fields(form)...)
	}
	values := strings.NewReplacer(
		"{file}",
		p.File,
		"{line}",
		strconv.Itoa(max(p.Line, 1)),
		"{column}",
		strconv.Itoa(max(p.Column, 1)),
	)
	for i := range words {
		words[i] = values.Replace(words[i])
	}
	return exec.Command(words[0], words[1:]...), !windows[name], nil
}

// there is how editors open a file of another machine, by their names, from their manuals. {host} may have the user.
var there = map[string]string{
	"vim":         "+{line} scp://{host}/{file}", // the path is absolute, so that there are two slashes
	"nvim":        "+{line} scp://{host}/{file}",
	"emacs":       "+{line}:{column} /ssh:{host}:{file}",
	"emacsclient": "+{line}:{column} /ssh:{host}:{file}",
	"code":        "--remote ssh-remote+{host} --goto {file}:{line}:{column}",
	"codium":      "--remote ssh-remote+{host} --goto {file}:{line}:{column}",
	"zed":         "ssh://{host}{file}:{line}:{column}",
}

// There returns the command that opens a location of another machine, if the editor is known to do that.
func There(editor, user, host string, p location.Location) (cmd *exec.Cmd, can bool) {
	words := strings.Fields(editor)
	if len(words) == 0 || !filepath.IsAbs(p.File) {
		return nil, false
	}
	form, can := there[nameOf(words[0])]
	if !can {
		return nil, false
	}
	if user != "" {
		host = user + "@" + host
	}
	values := strings.NewReplacer("{host}", host, "{file}", p.File, "{line}", strconv.Itoa(max(p.Line, 1)),
		"{column}", strconv.Itoa(max(p.Column, 1)))
	for _, word := range strings.Fields(form) {
		words = append(words, values.Replace(word))
	}
	return exec.Command(words[0], words[1:]...), true
}

// NeedsTerminal reports whether an editor runs on the terminal, and not in a window of its own.
func NeedsTerminal(editor string) bool {
	words := strings.Fields(editor)
	return len(words) > 0 && !windows[nameOf(words[0])]
}

// nameOf is the name of a program.
func nameOf(program string) string { return strings.TrimSuffix(filepath.Base(program), ".exe") }
