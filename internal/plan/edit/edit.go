// Package edit adds to settings files, without changing anything else in them, and replaces them. Nothing is written
// unless the file then means exactly that. Start reading at Extend.
package edit

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"omnivigil/internal/files"
	"omnivigil/internal/plan"
	"omnivigil/internal/plan/document"
	"omnivigil/internal/plan/settings"
	"omnivigil/internal/text/lazyregexp"
)

// Addition is an addition to a unit's settings: values for one of its lists, or a check of whether it is ready.
type Addition struct {
	Unit   string
	Key    string   // "watch", "ignore", "outputs", "needs", "follows" or "ready"
	Values []string // for a list
	Port   int      // for "ready"
}

// Texts are the contents of edited settings files, by absolute path.
type Texts map[string][]byte

// Extend adds to the settings files of a project themselves. Everything else in them, comments and layout, stays
// unchanged. Nothing is written unless they then mean exactly that; the error tells what to do by hand.
func Extend(p *plan.Plan, additions []Addition) error {
	texts := Texts{}
	for _, a := range additions {
		if err := texts.Add(p, a); err != nil {
			return err
		}
	}
	for file, text := range texts {
		if err := Replace(file, text); err != nil {
			return err
		}
	}
	return nil
}

// Ignore is Extend for patterns that a unit ignores.
func Ignore(p *plan.Plan, unit string, patterns []string) error {
	return Extend(p, []Addition{{Unit: unit, Key: "ignore", Values: patterns}})
}

// Add makes an addition to the file that has its unit, which is read if it was not edited before. An error tells why
// that is not possible and what to write by hand.
func (t Texts) Add(p *plan.Plan, a Addition) error {
	edited, file, err := a.apply(p, t)
	if err != nil {
		return fmt.Errorf("add %s to %s: %w", a, a.Unit, err)
	}
	t[file] = edited
	return nil
}

// String returns it as a line of the settings file.
func (e Addition) String() string { return e.line(nil) }

// line is the key with its values, and those that it has now.
func (e Addition) line(have []string) string {
	if e.Key == "ready" {
		return fmt.Sprintf("ready = { port = %d }", e.Port)
	}
	return e.Key + " = [" + quoted(append(slices.Clone(e.Values), have...)) + "]"
}

// values returns what a list of a unit has.
func (e Addition) values(u *plan.Unit) []string {
	switch e.Key {
	case "watch":
		return plan.Texts(u.Watch)
	case "ignore":
		return plan.Texts(u.Ignore)
	case "outputs":
		return plan.Texts(u.Outputs)
	case "needs":
		return u.Needs
	case "follows":
		return u.Follows
	}
	return nil
}

// apply returns the text of the unit's settings file with the addition, and that file.
func (e Addition) apply(p *plan.Plan, texts Texts) (edited []byte, file string, err error) {
	before, err := settings.Edited(p, texts)
	if err != nil {
		return nil, "", err
	}
	unit := before.Unit(e.Unit)
	if unit == nil {
		return nil, "", fmt.Errorf("%s has no such unit", p.File)
	}
	data, is := texts[unit.File]
	if !is {
		if data, err = files.Read(unit.File, files.Sane); err != nil {
			return nil, "", fmt.Errorf("read the settings: %w", err)
		}
	}
	have := e.values(unit)
	e.Values = slices.DeleteFunc(slices.Clone(e.Values), func(v string) bool { return slices.Contains(have, v) })
	if e.Key != "ready" && len(e.Values) == 0 {
		return data, unit.File, nil
	}
	own := e
	own.Values = settings.AsWritten(before, unit, e.Key, e.Values)
	local := settings.AsWritten(before, unit, e.Key, have)
	byHand := fmt.Errorf("write it yourself, into [%s.%s]: %s", unit.Kind, unit.ShortName(), own.line(local))
	start, end, ok := tableText(data, unit)
	if !ok {
		return nil, "", byHand
	}
	edited = own.insert(data, start, end, local)
	changed := maps.Clone(texts)
	changed[unit.File] = edited
	after, err := settings.Edited(p, changed)
	if err != nil || !e.isIn(after.Unit(e.Unit), have) {
		return nil, "", byHand
	}
	d := plan.Compare(before, after)
	if !slices.Equal(append(d.Adjusted, d.Changed...), []string{e.Unit}) || len(d.Added)+len(d.Removed) > 0 {
		return nil, "", byHand
	}
	return edited, unit.File, nil
}

// isIn reports whether a unit has what it adds, and otherwise what it had.
func (e Addition) isIn(u *plan.Unit, had []string) bool {
	if e.Key == "ready" {
		return u.Ready.Port == e.Port
	}
	return slices.Equal(e.values(u), append(slices.Clone(e.Values), had...))
}

var (
	anyHeader = lazyregexp.New(`(?m)^[ \t]*\[`)
	// silentEnd are the empty lines and comments at the end of a table: they belong to what follows.
	silentEnd = lazyregexp.New(`(?:(?:^|\n)[ \t]*(?:#[^\n]*)?\r?)*\n?$`)
)

// tableText returns the text below a unit's own header: from the line after it to the next header.
func tableText(data []byte, unit *plan.Unit) (start, end int, ok bool) {
	name := regexp.QuoteMeta(unit.ShortName())
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

// insert writes the values at the start of the unit's list, on a line of their own if the list has lines, or as a new
// key after the unit's others. A new key replaces that of [defaults], so it repeats its values.
func (e Addition) insert(data []byte, start, end int, have []string) []byte {
	key := regexp.MustCompile(`(?m)^([ \t]*)` + e.Key + `[ \t]*=[ \t]*\[([ \t]*\r?\n)?([ \t]*)`)
	if m := key.FindSubmatchIndex(data[start:end]); m != nil && e.Key != "ready" {
		at := start + m[1]
		indent := string(data[start+m[6] : start+m[7]])
		values := quoted(e.Values) + ", "
		switch {
		case m[4] >= 0: // one value a line
			values = quoted(e.Values) + ",\n" + indent
		case bytes.HasPrefix(data[at:], []byte("]")):
			values = quoted(e.Values)
		}
		return slices.Concat(data[:at], []byte(values), data[at:])
	}
	at := start + silentEnd.FindIndex(data[start:end])[0]
	line := e.line(have)
	if at > start || start > 0 && data[start-1] != '\n' {
		return slices.Concat(data[:at], []byte("\n"+line), data[at:]) // after the last key
	}
	return slices.Concat(data[:start], []byte(line+"\n"), data[start:])
}

func quoted(words []string) string {
	return strings.TrimSuffix(strings.TrimPrefix(document.QuotedList(words), "["), "]")
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
	if _, err := settings.Parse(file, []byte(units)); err != nil {
		return fmt.Errorf("nothing was added to %s: %w", file, err)
	}
	return Replace(file, []byte(units))
}

// AddEntry adds a list to a table of a personal file, which is created if it does not exist. The table is created if
// the file has none with a header of its own. Everything else in the file stays unchanged.
func AddEntry(file, table, key string, words []string) error {
	data, err := files.Read(file, files.Sane)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("read %s: %w", file, files.Reason(err))
	}
	entry := quotedKey(key) + " = " + "[" + quoted(words) + "]\n"
	header := "[" + table + "]\n"
	text := string(data)
	if text != "" && !strings.HasSuffix(text, "\n") {
		text += "\n"
	}
	switch at := strings.Index("\n"+text, "\n"+header); {
	case at >= 0:
		at += len(header)
		text = text[:at] + entry + text[at:]
	case text == "":
		text = header + entry
	default:
		text += "\n" + header + entry
	}
	if doc := document.Parse(file, []byte(text)); len(doc.Found) > 0 {
		return fmt.Errorf("add %s to [%s] in %s by hand: %w", key, table, file, doc.Problems())
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return fmt.Errorf("create the directory of %s: %w", file, files.Reason(err))
	}
	return Replace(file, []byte(text))
}

// quotedKey is a key as TOML requires it.
func quotedKey(key string) string {
	bare := func(r rune) bool {
		return r == '-' || r == '_' || '0' <= r && r <= '9' || 'a' <= r && r <= 'z' || 'A' <= r && r <= 'Z'
	}
	if key != "" && strings.IndexFunc(key, func(r rune) bool { return !bare(r) }) < 0 {
		return key
	}
	return strconv.Quote(key)
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
