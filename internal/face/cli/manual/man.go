package manual

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// pages calls write with the manual page of a command, and of those below it.
func pages(c *cobra.Command, version string, write func(name string, page []byte) error) error {
	for _, sub := range c.Commands() {
		if sub.IsAvailableCommand() && !sub.IsAdditionalHelpTopicCommand() {
			if err := pages(sub, version, write); err != nil {
				return err
			}
		}
	}
	return write(nameOf(c)+".1", page(c, version))
}

// nameOf is the name of a command's page.
func nameOf(c *cobra.Command) string { return strings.ReplaceAll(c.CommandPath(), " ", "-") }

// page is a command's manual page, in the man macros (man(7)).
func page(c *cobra.Command, version string) []byte {
	var b roff
	fmt.Fprintf(&b, ".TH %q 1 %s %q Omnivigil\n", strings.ToUpper(nameOf(c)), time.Now().Format(time.DateOnly), version)
	b.macro("SH", "NAME")
	b.text(nameOf(c) + " \\-")
	b.words(lowerFirst(c.Short))
	b.macro("SH", "SYNOPSIS")
	b.macro("B", c.UseLine())
	b.macro("SH", "DESCRIPTION")
	long := c.Long
	if long == "" {
		long = c.Short + "."
	}
	b.paragraphs(long)
	if c.Example != "" {
		b.macro("SH", "EXAMPLES")
		b.literal(c.Example)
	}
	b.options("OPTIONS", c.NonInheritedFlags())
	b.options("OPTIONS OF ALL COMMANDS", c.InheritedFlags())
	b.macro("SH", "EXIT STATUS")
	b.words("0 for success, 1 if the unit or check has failed, 2 for wrong usage or an invalid file, 3 on " +
		"timeout, and 130 if interrupted.")
	b.macro("SH", "SEE ALSO")
	related := []string{"omnivigil"}
	if c.HasParent() {
		related = []string{nameOf(c.Parent())}
	}
	for _, sub := range c.Commands() {
		if sub.IsAvailableCommand() {
			related = append(related, nameOf(sub))
		}
	}
	for i, name := range related {
		end := ","
		if i == len(related)-1 {
			end = ""
		}
		b.macro("BR", name, "(1)"+end)
	}
	return []byte(b.String())
}

// lowerFirst begins with a lower-case letter, as the descriptions in lists of pages do.
func lowerFirst(text string) string {
	if text == "" {
		return ""
	}
	return strings.ToLower(text[:1]) + text[1:]
}

// roff is a text in that language.
type roff struct{ strings.Builder }

var special = strings.NewReplacer(`\`, `\e`, `-`, `\-`, `'`, `\(aq`, `^`, `\(ha`, `~`, `\(ti`, "`", `\(ga`)

// escaped is a text that means itself.
func escaped(text string) string { return special.Replace(text) }

// macro writes a line with a macro and its arguments.
func (r *roff) macro(name string, args ...string) {
	r.WriteString("." + name)
	for _, a := range args {
		r.WriteString(` "` + strings.ReplaceAll(escaped(a), `"`, `\(dq`) + `"`)
	}
	r.WriteString("\n")
}

// text writes a line, which is already escaped.
func (r *roff) text(line string) {
	if strings.HasPrefix(line, ".") || strings.HasPrefix(line, "'") {
		line = `\&` + line
	}
	r.WriteString(line + "\n")
}

// paragraphs writes paragraphs, which empty lines separate. Indented lines stay as they are.
func (r *roff) paragraphs(text string) {
	for i, paragraph := range strings.Split(strings.Trim(text, "\n"), "\n\n") {
		if strings.HasPrefix(paragraph, " ") || strings.HasPrefix(paragraph, "\t") {
			r.literal(paragraph)
			continue
		}
		if i > 0 {
			r.macro("PP")
		}
		r.words(paragraph)
	}
}

// words writes the words of a text, in lines of a usual length.
func (r *roff) words(text string) {
	for line := range strings.SplitSeq(ansi.Wordwrap(strings.Join(strings.Fields(text), " "), lineWidth, ""), "\n") {
		r.text(escaped(line))
	}
}

// lineWidth is the maximum length of a line before it is escaped.
const lineWidth = 60

// literal writes lines as they are.
func (r *roff) literal(text string) {
	r.macro("RS", "4")
	r.macro("EX")
	for line := range strings.Lines(strings.Trim(text, "\n")) {
		r.text(escaped(strings.ReplaceAll(strings.TrimRight(line, "\n"), "\t", "    ")))
	}
	r.macro("EE")
	r.macro("RE")
}

// options writes flags, if there are some.
func (r *roff) options(title string, flags *pflag.FlagSet) {
	first := true
	flags.VisitAll(func(f *pflag.Flag) {
		if f.Hidden {
			return
		}
		if first {
			r.macro("SH", title)
			first = false
		}
		name := "--" + f.Name
		if f.Shorthand != "" {
			name = "-" + f.Shorthand + ", " + name
		}
		kind, usage := pflag.UnquoteUsage(f)
		if kind != "" {
			name += " " + cmp.Or(map[string]string{"int": "N", "duration": "DURATION"}[kind], "VALUE")
		}
		r.macro("TP")
		r.macro("B", name)
		r.words(usage)
	})
}
