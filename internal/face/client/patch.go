package client

import (
	"fmt"
	"io"

	"omnivigil/internal/api/changes"
	"omnivigil/internal/text/diff"
	"omnivigil/internal/text/format"
)

// writePatch writes changes as a unified diff, as patch(1) and git read it. What is not known of a file is a line
// before it, which these ignore.
func writePatch(w io.Writer, c changes.Changes) {
	if c.Reverts > 0 {
		fmt.Fprintf(w, "This takes back the changes of ripple %d.\n", c.Reverts)
	}
	for _, f := range c.Files {
		if f.Reverts > 0 && c.Reverts == 0 {
			fmt.Fprintf(w, "%s: this takes back the change of ripple %d.\n", f.Path, f.Reverts)
		}
		if f.Note != "" {
			fmt.Fprintf(w, "%s: %s; %s.\n", f.Path, f.Kind, f.Note)
			continue
		}
		from, to := "a/"+f.Path, "b/"+f.Path
		switch f.Kind {
		case changes.Added:
			from = "/dev/null"
		case changes.Removed:
			to = "/dev/null"
		case changes.Changed:
		}
		fmt.Fprintf(w, "--- %s\n+++ %s\n", from, to)
		for _, h := range f.Hunks {
			writeHunk(w, h)
		}
	}
	if c.More > 0 {
		fmt.Fprintf(w, "%s not shown.\n", format.Count(c.More, "more changed file"))
	}
}

func writeHunk(w io.Writer, h diff.Hunk) {
	before, after := 0, 0
	for _, l := range h.Lines {
		if l.Op != diff.Added {
			before++
		}
		if l.Op != diff.Removed {
			after++
		}
	}
	fmt.Fprintf(w, "@@ -%s +%s @@\n", hunkRange(h.From, before), hunkRange(h.To, after))
	for _, l := range h.Lines {
		fmt.Fprintf(w, "%s%s\n", map[diff.Op]string{diff.Same: " ", diff.Added: "+", diff.Removed: "-"}[l.Op], l.Text)
		if l.NoEnd {
			fmt.Fprintln(w, `\ No newline at end of file`)
		}
	}
}

// hunkRange is where a part of a file is: the number of its first line, or of the line before it if it is empty.
func hunkRange(first, lines int) string {
	if lines == 0 {
		first = max(first-1, 0)
	}
	if lines == 1 {
		return fmt.Sprint(first)
	}
	return fmt.Sprintf("%d,%d", first, lines)
}
