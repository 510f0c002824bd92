package draft

import (
	"fmt"
	"path/filepath"
	"strings"

	"omnivigil/internal/draft/project"
	"omnivigil/internal/plan"
	"omnivigil/internal/plan/document"
	"omnivigil/internal/text/escape"
)

// text is the draft as a settings file.
func text(p *project.Project) string {
	var b strings.Builder
	b.WriteString("# What runs in this project, for everyone who works on it.\n")
	b.WriteString(
		"# \"omnivigil check\" reads this file, \"omnivigil start\" runs it, and \"omnivigil why PATH\" shows\n",
	)
	b.WriteString("# what a save of a file would set off. \"omnivigil schema\" prints a JSON Schema for editors.\n")
	fmt.Fprintf(&b, "\n[project]\nname = %s\n", document.QuotedText(filepath.Base(p.Root)))
	if len(p.EnvFiles) > 0 {
		fmt.Fprintf(&b, "env_files = %s # the first file that sets a name wins; the real environment overrides all\n",
			document.QuotedList(p.EnvFiles))
	}
	if len(p.Secret) > 0 {
		fmt.Fprintf(&b, "secret = %s # masked on every screen and in every log\n", document.QuotedList(p.Secret))
	}
	if len(p.Members) > 0 {
		fmt.Fprintf(&b, "members = %s # each has its own %s\n", document.QuotedList(p.Members), plan.FileName)
	}
	for _, u := range p.Units {
		b.WriteString("\n" + tableText(u))
	}
	if len(p.Left) > 0 {
		b.WriteString("\n# Left out:\n")
		for _, what := range p.Left {
			b.WriteString("# - " + what + "\n")
		}
	}
	return b.String()
}

// tableText is the table of a unit, as a comment if it is only a proposal.
func tableText(u project.Unit) string {
	table := unitText(u)
	if !u.Commented {
		return table
	}
	return "# " + strings.ReplaceAll(strings.TrimRight(table, "\n"), "\n", "\n# ") + "\n"
}

func unitText(u project.Unit) string {
	var b strings.Builder
	fmt.Fprintf(&b, "# %s\n", escape.Text(u.From))
	if u.Guess != "" {
		fmt.Fprintf(&b, "# A guess: %s.\n", escape.Text(u.Guess))
	}
	fmt.Fprintf(&b, "[%s.%s]\nrun = %s\n", u.Kind, u.Name, document.QuotedText(u.Run))
	line := func(key string, words []string) {
		if len(words) > 0 {
			fmt.Fprintf(&b, "%s = %s\n", key, document.QuotedList(words))
		}
	}
	if u.Dir != "" {
		fmt.Fprintf(&b, "dir = %s\n", document.QuotedText(u.Dir))
	}
	line("env_files", u.EnvFiles)
	if u.Uses != nil {
		fmt.Fprintf(&b, "uses = %s # an edit of other variables of the env files does not restart it\n",
			document.QuotedList(u.Uses))
	}
	line("needs", u.Needs)
	line("follows", u.Follows)
	setupText(&b, u)
	line("watch", u.Watch)
	if len(u.Watch) > 0 {
		line("ignore", u.Ignore)
	}
	line("outputs", u.Outputs)
	flag := func(is bool, text string) {
		if is {
			b.WriteString(text + "\n")
		}
	}
	flag(u.Pass, `pass = "auto" # it picks up changes by itself`)
	portText(&b, u)
	flag(u.MayServe, "may_serve = true # if it keeps running, it counts as a service")
	flag(u.Alone, "alone = true # others would write the same files")
	flag(u.Manual, `start = "manual"`)
	return b.String()
}

func setupText(b *strings.Builder, u project.Unit) {
	if u.Setup == nil {
		return
	}
	fmt.Fprintf(b, "setup = [{ run = %s", document.QuotedText(u.Setup.Run))
	if project.AsDir(u.Setup.Dir) != u.Dir {
		fmt.Fprintf(b, ", dir = %s", document.QuotedText(u.Setup.Dir))
	}
	if len(u.Setup.Inputs) > 0 {
		fmt.Fprintf(b, ", inputs = %s", document.QuotedList(u.Setup.Inputs))
	}
	if len(u.Setup.Outputs) > 0 {
		fmt.Fprintf(b, ", outputs = %s", document.QuotedList(u.Setup.Outputs))
	}
	b.WriteString(" }]\n")
}

// portText writes the address of a service. It is waited for only if the service surely listens there.
func portText(b *strings.Builder, u project.Unit) {
	if u.Port == 0 {
		return
	}
	fmt.Fprintf(b, "endpoint = { port = %d }\n", u.Port)
	switch {
	case u.Kind != plan.Service || u.Pass:
	case u.Sure:
		fmt.Fprintf(b, "ready = { port = %d }\n", u.Port)
	default:
		fmt.Fprintf(b, "# ready = { port = %d }\n", u.Port)
	}
}
