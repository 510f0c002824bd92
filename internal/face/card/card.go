// Package card puts an explanation into sections of rows, the same for all faces: what a unit does, how it failed, the
// failed tests and findings with the lines of their files, the last lines of output, what changed, what is blocked,
// and what to do. A face chooses the colors, and names its own way to carry out a remedy. Start reading at Sections.
package card

import (
	"fmt"
	"io"
	"strings"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/text/escape"
	"omnivigil/internal/text/format"
)

// Section is rows with a title.
type Section struct {
	Title string // empty: the first one
	Aside bool   // it is not about the failure itself but about what surrounds it; may be drawn next to the others
	Rows  []Row
}

// Row is one row of text without colors.
type Row struct {
	Role Role
	Text string
	// Words are parts of the text that stand out, as offsets of bytes.
	Words [][2]int
}

// Role is what a row is, for its color.
type Role uint8

const (
	Plain    Role = iota
	Broken        // how it failed, the message of a finding
	Quiet         // a remark
	Source        // a line of a file next to a location
	Marked        // the line of a file at a location
	Output        // a line of output
	Location      // where something is
	Added         // a line that was added to a file
	Removed       // a line that was removed from it
)

// Doing is how a user of a face carries out a remedy, as it is written after the remedy: " (key r)", or
// ": omnivigil restart fares". Empty: there is no way.
type Doing func(unit string, r api.Remedy) string

// Sections returns the explanation of a unit, in the order of the contract. Files are relative to root.
func Sections(e api.Explanation, root string, now time.Time, doing Doing) []Section {
	first, f := account(e), e.Failure
	if f == nil {
		return []Section{first}
	}
	heading := Section{Title: fmt.Sprintf("how %s run %d failed", f.Unit, f.Run)}
	if !f.At.IsZero() {
		heading.Title += " at " + format.Moment(f.At, now)
	}
	heading.add(Broken, "%s", f.How)
	all := []Section{first, heading}
	for _, s := range []Section{
		excerpts(f, root), lines(f), changed(f, now), earlier(f, now), blocks(f), remedies(f, doing),
	} {
		if len(s.Rows) > 0 {
			all = append(all, s)
		}
	}
	return all
}

// Brief returns the beginning of an explanation: what the unit does, how it failed, and where that was first reported.
func Brief(e api.Explanation, root string) []Row {
	brief := account(e)
	if f := e.Failure; f != nil {
		if f.Unit != e.Unit {
			brief.add(Broken, "%s %s", f.Unit, f.How)
		}
		if len(f.Excerpts) > 0 {
			first := f.Excerpts[0]
			first.Source = nil
			brief.Rows = append(brief.Rows, excerpts(&api.Failure{Excerpts: []api.Excerpt{first}}, root).Rows...)
		}
	}
	return brief.Rows
}

// account shows what the unit does, and the doubts about it.
func account(e api.Explanation) Section {
	s := Section{}
	for _, line := range e.Account {
		s.add(Plain, "%s", line)
	}
	for _, d := range e.Doubts {
		s.add(Plain, "? %s; to end it: %s", d.What, d.Ends)
	}
	return s
}

func (s *Section) add(role Role, format string, args ...any) {
	s.Rows = append(s.Rows, Row{Role: role, Text: fmt.Sprintf(format, args...)})
}

// excerpts shows the failed tests and findings, each with the lines around its location.
func excerpts(f *api.Failure, root string) Section {
	s := Section{Title: "where"}
	for i, e := range f.Excerpts {
		if i > 0 {
			s.add(Plain, "")
		}
		title := e.Test
		if title == "" {
			title = string(e.Severity)
		}
		if e.Change != "" {
			title += " (" + string(e.Change) + ")"
		}
		if e.File != "" {
			title += "  " + e.Location.From(root).Place()
		}
		s.add(Location, "%s", title)
		for line := range strings.SplitSeq(strings.TrimRight(e.Message, "\n"), "\n") {
			s.add(Broken, "  %s", line)
		}
		if (e.Want != "" || e.Got != "") && !(strings.Contains(e.Message, e.Want) && strings.Contains(e.Message, e.Got)) {
			s.add(Plain, "  expected %s, got %s", e.Want, e.Got)
		}
		for _, line := range e.Source {
			role, mark := Source, " "
			if line.Number == e.Line {
				role, mark = Marked, ">"
			}
			s.add(role, "  %s %4d  %s", mark, line.Number, strings.ReplaceAll(line.Text, "\t", "    "))
		}
	}
	if f.More > 0 {
		s.add(Quiet, "and %d more", f.More)
	}
	return s
}

// lines shows the last words of the run.
func lines(f *api.Failure) Section {
	s := Section{Title: "its last relevant lines"}
	for _, l := range f.Lines {
		s.add(Output, "%s", strings.ReplaceAll(escape.Strip(l.Text), "\t", "    "))
	}
	return s
}

// changed shows what is different from the last good run.
func changed(f *api.Failure, now time.Time) Section {
	if f.LastGood == nil {
		s := Section{Title: "changed since it last ran well", Aside: len(f.Changes) == 0}
		s.add(Quiet, "it has not run well since the project started")
		s.Rows = append(s.Rows, Changes(f.Changes, maxChange)...)
		return s
	}
	s := Section{Aside: len(f.Changes) == 0, Title: fmt.Sprintf("changed since run %d ran well at %s", f.LastGood.Run,
		format.Moment(f.LastGood.At, now))}
	shown := map[string]bool{}
	for _, c := range f.Changes {
		shown[c.Path] = true
		s.Rows = append(s.Rows, Change(c, maxChange)...)
	}
	for _, path := range f.Changed {
		if !shown[path] {
			s.add(Plain, "%s", path)
		}
	}
	if len(f.Changed) == 0 {
		s.add(Quiet, "no file that affects it")
	}
	return s
}

// maxChange is how many lines are shown of a part of a changed file.
const maxChange = 12

// earlier shows the last failure before this one, and what fixed it.
func earlier(f *api.Failure, now time.Time) Section {
	s := Section{Title: "when it last failed before", Aside: true}
	if e := f.Earlier; e != nil {
		s.add(Plain, "%s, run %d: %s", format.Moment(e.At, now), e.Run, e.How)
		s.add(Plain, "fixed at %s: %s", format.Moment(e.FixedAt, now), e.Because)
	}
	return s
}

// blocks shows the units that the failure keeps from becoming current.
func blocks(f *api.Failure) Section {
	s := Section{Title: "what it blocks", Aside: true}
	for _, b := range f.Blocks {
		state := string(b.State)
		if b.Freshness != api.NoCode {
			state += ", " + string(b.Freshness)
		}
		s.add(Plain, "%s: %s", b.Unit, state)
	}
	return s
}

// remedies shows what to do, and how in this face.
func remedies(f *api.Failure, doing Doing) Section {
	s := Section{Title: "what to do", Aside: true}
	for _, r := range f.Remedies {
		s.add(Plain, "%s%s", r.Text, doing(f.Unit, r))
	}
	return s
}

// Command is Doing for faces without keys: the command that carries out a remedy.
func Command(unit string, r api.Remedy) string {
	switch r.Action {
	case api.Restart:
		return ": omnivigil restart " + unit
	case api.Widen:
		return ": omnivigil widen " + unit
	}
	return ""
}

// Write writes an explanation as plain text.
func Write(w io.Writer, e api.Explanation, root string, now time.Time) {
	for _, s := range Sections(e, root, now, Command) {
		indent := ""
		if s.Title != "" {
			fmt.Fprintf(w, "\n%s\n", escape.Lines(escape.Strip(s.Title)))
			indent = "  "
		}
		for _, r := range s.Rows {
			fmt.Fprintln(w, strings.TrimRight(indent+escape.Lines(escape.Strip(r.Text)), " "))
		}
	}
}
