package passes

import (
	"regexp"
	"sync"

	"omnivigil/internal/plan"
)

// phrases are the lines that show a tool's passes.
type phrases struct {
	tool               string
	working, good, bad *regexp.Regexp // nil: it has no such line
}

func (p phrases) meaning(line string) meaning {
	is := func(e *regexp.Regexp) bool { return e != nil && e.MatchString(line) }
	switch {
	case is(p.working):
		return begins
	case is(p.bad):
		return endsBadly
	case is(p.good):
		return endsWell
	}
	return nothing
}

func phrasesOf(p plan.Pass) phrases {
	compile := func(e string) *regexp.Regexp {
		if e == "" {
			return nil
		}
		return regexp.MustCompile(e) // plan.Read has compiled it before
	}
	return phrases{"", compile(p.Working), compile(p.Good), compile(p.Bad)}
}

// Tools returns the names of the known tools, in the order of the table.
func Tools() []string {
	var names []string
	for _, t := range known() {
		names = append(names, t.tool)
	}
	return names
}

// known are the common tools, with their phrases in their own watch mode. The phrases come from these versions;
// testdata has their output. Special ones come first: a tool is taken for the first one that a line matches.
var known = sync.OnceValue(func() []phrases {
	var all []phrases
	for _, t := range []struct{ tool, working, good, bad string }{
		{"tsc", // 7.0 and 5.x, also with --build
			`(Starting compilation in watch mode|File change detected\. Starting incremental compilation)\.\.\.$`,
			`Found 0 errors\. Watching for file changes\.$`,
			`Found [1-9]\d* errors?\. Watching for file changes\.$`},
		{"esbuild", // 0.28
			`^\[watch\] build started`,
			`^\[watch\] build finished`,
			`^\d+ errors?$|^\d+ warnings? and \d+ errors?$`},
		{"rollup", // 4.68
			`^bundles .+ → .+\.\.\.$`,
			`^\[[^]]+\] waiting for changes\.\.\.$`,
			`^\[!\] `},
		{"vite", // 8.3, vite build --watch
			`^build started\.\.\.$`,
			`^(✓ )?built in \S+$`,
			`^(✗ )?Build failed( in|:| with)|^error during build:`},
		{"rolldown", // 1.2
			`changed, rebuilding\.\.\.$`,
			`^✔ Rebuilt .+ in `,
			`Build failed with \d+ errors?`},
		{"webpack and rspack", // 5.112 and 2.3
			``,
			`\b(webpack|Rspack)\b.* compiled (successfully|with \d+ warnings?)`,
			`\b(webpack|Rspack)\b.* compiled with \d+ errors?`},
		{"parcel", // 2.16
			`Building\b.*\.\.\.$`,
			`^✨ Built in `,
			`^🚨 Build failed\.`},
		{"sass", // 1.108
			``,
			`Compiled .+ to .+\.$|^Sass is watching for changes\.`, // the second alone if nothing had to be compiled
			`^Error: `},
		{"tailwindcss", // 4.3
			``,
			`^Done in \d`,
			`^Error:$|^Error: `},
	} {
		p := phrasesOf(plan.Pass{Working: t.working, Good: t.good, Bad: t.bad})
		p.tool = t.tool
		all = append(all, p)
	}
	return all
})
