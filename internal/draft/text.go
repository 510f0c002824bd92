package draft

import (
	"fmt"
	"path/filepath"
	"strings"

	"omnivigil/internal/plan"
	"omnivigil/internal/plan/settings"
	"omnivigil/internal/text/escape"
)

// text is the draft as a settings file.
func (p *project) text() string {
	var b strings.Builder
	b.WriteString("# What runs in this project, for everybody who works on it.\n")
	b.WriteString("# omnivigil check reads this file, omnivigil start runs it, and omnivigil why PATH says what\n")
	b.WriteString("# a save of a file sets off. omnivigil schema prints a JSON Schema for editors.\n")
	fmt.Fprintf(&b, "\n[project]\nname = %s\n", settings.Text(filepath.Base(p.root)))
	if len(p.envFiles) > 0 {
		fmt.Fprintf(
			&b,
			"env_files = %s # the first that has a name wins; the machine's own variables win over all\n",
			settings.List(p.envFiles),
		)
	}
	for _, u := range p.units {
		table := u.text()
		if u.commented {
			table = "# " + strings.ReplaceAll(strings.TrimRight(table, "\n"), "\n", "\n# ") + "\n"
		}
		b.WriteString("\n" + table)
	}
	return b.String()
}

func (u unit) text() string {
	var b strings.Builder
	fmt.Fprintf(&b, "# %s\n", escape.Text(u.from))
	if u.guess != "" {
		fmt.Fprintf(&b, "# A guess: %s.\n", escape.Text(u.guess))
	}
	fmt.Fprintf(&b, "[%s.%s]\nrun = %s\n", u.kind, u.name, settings.Text(u.run))
	line := func(key string, words []string) {
		if len(words) > 0 {
			fmt.Fprintf(&b, "%s = %s\n", key, settings.List(words))
		}
	}
	if u.dir != "" {
		fmt.Fprintf(&b, "dir = %s\n", settings.Text(u.dir))
	}
	line("needs", u.needs)
	line("follows", u.follows)
	if u.setup != nil {
		fmt.Fprintf(&b, "setup = [{ run = %s, inputs = %s", settings.Text(u.setup.run), settings.List(u.setup.inputs))
		if len(u.setup.outputs) > 0 {
			fmt.Fprintf(&b, ", outputs = %s", settings.List(u.setup.outputs))
		}
		b.WriteString(" }]\n")
	}
	line("watch", u.watch)
	line("ignore", u.ignore)
	if u.pass {
		b.WriteString("pass = \"auto\" # it picks up changes by itself\n")
	}
	if u.port != 0 {
		fmt.Fprintf(&b, "endpoint = { port = %d }\n", u.port)
		if !u.pass && u.kind == plan.Service {
			fmt.Fprintf(&b, "# ready = { port = %d }\n", u.port)
		}
	}
	if u.manual {
		b.WriteString("start = \"manual\"\n")
	}
	return b.String()
}
