package settings

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"omnivigil/internal/files"
	"omnivigil/internal/plan"
	"omnivigil/internal/text/lazyregexp"
)

// Ignore adds patterns to what a unit ignores, in the settings file itself. Everything else in the file, comments and
// layout, stays unchanged. Nothing is written unless the file then means exactly that; the error tells what to do by
// hand.
func Ignore(file, unit string, patterns []string) error {
	data, err := files.Read(file, files.Sane)
	if err != nil {
		return fmt.Errorf("read the settings: %w", err)
	}
	edited, err := withIgnored(file, data, unit, patterns)
	if err != nil {
		return fmt.Errorf("add %s to what %s ignores: %w", quoted(patterns), unit, err)
	}
	return Replace(file, edited)
}

// withIgnored returns the text of a settings file with more patterns for a unit to ignore.
func withIgnored(file string, data []byte, name string, patterns []string) ([]byte, error) {
	before, err := parsePlan(file, file, "", data)
	if err != nil {
		return nil, err
	}
	unit := before.Unit(name)
	if unit == nil {
		return nil, fmt.Errorf("%s has no such unit", file)
	}
	patterns = slices.DeleteFunc(
		slices.Clone(patterns),
		func(p string) bool { return slices.Contains(plan.Texts(unit.Ignore), p) },
	)
	if len(patterns) == 0 {
		return data, nil
	}
	byHand := fmt.Errorf(
		"write it yourself, into [%s.%s]: ignore = [%s]",
		unit.Kind,
		name,
		quoted(append(plan.Texts(unit.Ignore), patterns...)),
	)
	start, end, ok := tableText(data, unit)
	if !ok {
		return nil, byHand
	}
	edited := insertIgnored(data, start, end, unit, patterns)
	after, err := parsePlan(file, file, "", edited)
	if err != nil || !slices.Equal(plan.Texts(after.Unit(name).Ignore), append(patterns, plan.Texts(unit.Ignore)...)) {
		return nil, byHand
	}
	if d := plan.Compare(before, after); len(d.Adjusted) != 1 || len(d.Added)+len(d.Removed)+len(d.Changed) > 0 {
		return nil, byHand
	}
	return edited, nil
}

var (
	anyHeader = lazyregexp.New(`(?m)^[ \t]*\[`)
	ignoreKey = lazyregexp.New(`(?m)^([ \t]*)ignore[ \t]*=[ \t]*\[([ \t]*\r?\n)?([ \t]*)`)
)

// tableText returns the text below a unit's own header: from the line after it to the next header.
func tableText(data []byte, unit *plan.Unit) (start, end int, ok bool) {
	name := regexp.QuoteMeta(unit.Name)
	header := regexp.MustCompile(
		`(?m)^[ \t]*\[[ \t]*` + unit.Kind.String() + `[ \t]*\.[ \t]*["']?` + name + `["']?[ \t]*\][^\n]*\n?`,
	)
	at := header.FindIndex(data)
	if at == nil {
		return 0, 0, false
	}
	end = len(data)
	if next := anyHeader.FindIndex(data[at[1]:]); next != nil {
		end = at[1] + next[0]
	}
	return at[1], end, true
}

// insertIgnored writes the patterns at the start of the unit's list, on a line of their own if the list has lines, or
// as a new key below the header. A new key replaces that of [defaults], so it repeats its values.
func insertIgnored(data []byte, start, end int, unit *plan.Unit, patterns []string) []byte {
	line := "ignore = [" + quoted(append(patterns, plan.Texts(unit.Ignore)...)) + "]\n"
	at := start
	if m := ignoreKey.FindSubmatchIndex(data[start:end]); m != nil {
		at = start + m[1]
		indent := string(data[start+m[6] : start+m[7]])
		switch {
		case m[4] >= 0: // one value a line
			line = quoted(patterns) + ",\n" + indent
		case bytes.HasPrefix(data[at:], []byte("]")):
			line = quoted(patterns)
		default:
			line = quoted(patterns) + ", "
		}
	} else if start > 0 && data[start-1] != '\n' {
		line = "\n" + line
	}
	return slices.Concat(data[:at], []byte(line), data[at:])
}

func quoted(words []string) string {
	return strings.TrimSuffix(strings.TrimPrefix(List(words), "["), "]")
}

// Add adds units to a settings file, which is created if it does not exist. Everything in it stays unchanged. Nothing
// is written unless the file then means that; the error tells what is wrong.
func Add(file, units string) error {
	data, err := files.Read(file, files.Sane)
	switch {
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		return fmt.Errorf("read the settings: %w", err)
	case len(data) > 0:
		units = strings.TrimRight(string(data), "\n") + "\n\n" + units
	}
	if _, err := parsePlan(file, file, "", []byte(units)); err != nil {
		return fmt.Errorf("nothing was added to %s: %w", file, err)
	}
	return Replace(file, []byte(units))
}

// Replace writes a settings file and replaces the existing one, with the same mode. A link keeps its target.
func Replace(file string, data []byte) error {
	mode := fs.FileMode(0o644)
	if resolved, err := filepath.EvalSymlinks(file); err == nil {
		file = resolved
	}
	if info, err := os.Stat(file); err == nil {
		mode = info.Mode().Perm()
	}
	if err := files.Replace(file, data, mode); err != nil {
		return fmt.Errorf("write the settings: %w", err)
	}
	return nil
}
