package project

import (
	"path"
	"slices"
	"strings"

	"mvdan.cc/sh/v3/syntax"

	"omnivigil/internal/text/lazyregexp"
)

// Command is one program that a line of shell starts, without what only prepares its start.
type Command struct {
	Program string   // without directories
	Args    []string // literal, or as written
	Env     []string // variables that are set for it
	Dir     string   // to which the line has changed before
}

// Has reports whether one of several arguments is given, also as --flag=value.
func (c Command) Has(args ...string) bool {
	return slices.ContainsFunc(c.Args, func(arg string) bool {
		name, _, _ := strings.Cut(arg, "=")
		return slices.Contains(args, arg) || strings.HasPrefix(arg, "-") && slices.Contains(args, name)
	})
}

// First is the first argument that is no flag, or "".
func (c Command) First() string {
	for _, arg := range c.Args {
		if !strings.HasPrefix(arg, "-") {
			return arg
		}
	}
	return ""
}

// Value returns the value of one of several flags, or "".
func (c Command) Value(flags ...string) string {
	for i, arg := range c.Args {
		name, value, is := strings.Cut(arg, "=")
		switch {
		case is && slices.Contains(flags, name):
			return value
		case slices.Contains(flags, arg) && i+1 < len(c.Args):
			return c.Args[i+1]
		}
	}
	return ""
}

// Without returns the command's words without some flags.
func (c Command) Without(flags ...string) []string {
	return slices.DeleteFunc(append([]string{c.Program}, c.Args...), func(arg string) bool {
		name, _, _ := strings.Cut(arg, "=")
		return slices.Contains(flags, name)
	})
}

// CommandsOf returns the commands of a line of shell, in order; those of a line that is no valid shell are unknown.
func CommandsOf(line string) []Command {
	file, err := syntax.NewParser(syntax.Variant(syntax.LangBash)).Parse(strings.NewReader(line), "")
	if err != nil {
		return nil
	}
	var all []Command
	dir := ""
	syntax.Walk(file, func(node syntax.Node) bool {
		call, is := node.(*syntax.CallExpr)
		if !is || len(call.Args) == 0 {
			return true
		}
		var c Command
		for _, a := range call.Assigns {
			if a.Name != nil && a.Value != nil {
				c.Env = append(c.Env, a.Name.Value+"="+wordText(a.Value))
			}
		}
		words := make([]string, len(call.Args))
		for i, w := range call.Args {
			words[i] = wordText(w)
		}
		words, c.Env = unwrapped(words, c.Env)
		switch {
		case len(words) == 0:
		case words[0] == "cd" && len(words) == 2:
			dir = path.Join(dir, words[1])
		default:
			c.Program, c.Args, c.Dir = path.Base(words[0]), words[1:], dir
			if words[0] == "@tailwindcss/cli" {
				c.Program = "tailwindcss"
			}
			if strings.HasPrefix(words[0], "./") && !strings.Contains(words[0], ".bin/") {
				c.Program = words[0]
			}
			all = append(all, c)
		}
		return true
	})
	return all
}

// Steps returns the commands of a line that run one after the other as long as they succeed (&&), as written; nil: the
// line is of another form.
func Steps(line string) []string {
	file, err := syntax.NewParser(syntax.Variant(syntax.LangBash)).Parse(strings.NewReader(line), "")
	if err != nil || len(file.Stmts) != 1 || file.Stmts[0].Background {
		return nil
	}
	var steps []string
	var add func(s *syntax.Stmt)
	add = func(s *syntax.Stmt) {
		if both, is := s.Cmd.(*syntax.BinaryCmd); is && both.Op == syntax.AndStmt {
			add(both.X)
			add(both.Y)
			return
		}
		steps = append(steps, strings.TrimSpace(line[s.Pos().Offset():s.End().Offset()]))
	}
	add(file.Stmts[0])
	return steps
}

// wordText is the text of a word; expansions stay as written.
func wordText(w *syntax.Word) string {
	var b strings.Builder
	var add func(parts []syntax.WordPart)
	add = func(parts []syntax.WordPart) {
		for _, part := range parts {
			switch part := part.(type) {
			case *syntax.Lit:
				b.WriteString(strings.ReplaceAll(part.Value, "\\", ""))
			case *syntax.SglQuoted:
				b.WriteString(part.Value)
			case *syntax.DblQuoted:
				add(part.Parts)
			default:
				syntax.NewPrinter().Print(&b, part)
			}
		}
	}
	add(w.Parts)
	return b.String()
}

// wrappers are words before a command that only prepare its start, with the words that come with them.
var wrappers = [][]string{
	{"pnpm", "exec"}, {"pnpm", "dlx"}, {"yarn", "exec"}, {"yarn", "dlx"}, {"npm", "exec"}, {"uv", "run"},
	{"poetry", "run"}, {"pipenv", "run"}, {"bundle", "exec"}, {"npx"}, {"bunx"}, {"cross-env"}, {"cross-env-shell"},
	{"env"}, {"exec"}, {"time"}, {"nice"}, {"command"},
}

var assignment = lazyregexp.New(`^[A-Za-z_]\w*=`)

// unwrapped takes wrappers and their flags away, and collects the variables that they set.
func unwrapped(words, env []string) ([]string, []string) {
	for again := true; again && len(words) > 0; {
		again = false
		for _, w := range wrappers {
			if len(words) <= len(w) || path.Base(words[0]) != w[0] || !slices.Equal(words[1:len(w)], w[1:]) {
				continue
			}
			words, again = words[len(w):], true
			for len(words) > 0 && strings.HasPrefix(words[0], "-") {
				words = words[1:]
			}
			break
		}
		for len(words) > 0 && assignment.MatchString(words[0]) {
			env, words, again = append(env, words[0]), words[1:], true
		}
	}
	return words, env
}

// actors are programs whose runs have effects beyond the project's directory or on its history.
var actors = []string{
	"gh", "hub", "twine", "changeset", "semantic-release", "release-it", "np", "standard-version", "bumpp",
	"gh-pages", "goreleaser", "vsce", "ovsx", "clean-publish", "aws", "gcloud", "az", "heroku", "fly", "flyctl",
	"vercel", "netlify", "serverless", "sls", "cdk", "terraform", "tofu", "pulumi", "kubectl", "helm",
	"ansible-playbook", "kamal", "cap", "ssh", "scp", "rsync", "sftp", "ftp", "sudo", "shutdown", "kill",
	"killall", "pkill", "dropdb", "husky", "brew", "apt", "apt-get",
}

// acts are programs of which only some runs have such effects: those with one of these first arguments.
var acts = map[string][]string{
	"npm":      {"publish", "unpublish", "version", "deprecate", "dist-tag", "login", "adduser", "pkg", "link"},
	"pnpm":     {"publish", "version", "link"},
	"yarn":     {"publish", "version", "npm", "link"},
	"bun":      {"publish", "link"},
	"git":      {"push", "commit", "tag", "reset", "clean", "checkout", "merge", "rebase", "stash", "rm", "add"},
	"svn":      {"commit", "ci"},
	"hg":       {"push", "commit"},
	"docker":   {"push", "login", "rm", "rmi", "system", "volume"},
	"podman":   {"push", "login", "rm", "rmi", "system"},
	"cargo":    {"publish", "yank", "release", "login", "install", "update"},
	"flit":     {"publish"},
	"poetry":   {"publish", "version", "update"},
	"uv":       {"publish", "version"},
	"hatch":    {"publish", "version"},
	"pdm":      {"publish"},
	"gem":      {"push", "yank", "install"},
	"composer": {"update"},
	"lerna":    {"publish", "version"},
	"firebase": {"deploy", "use"},
	"wrangler": {"deploy", "publish", "secret"},
	"go":       {"install", "clean", "get"},
}

// actingWord matches arguments, and names of scripts, by which tools publish, deploy, or delete data.
var actingWord = lazyregexp.New(
	`^(?:.*[:/])?(?:publish(?:ToMavenLocal)?|deploy|release|drop|reset|purge|destroy|uninstall)(?:\.\w+)?$`,
)

// removers are programs that delete files.
var removers = []string{"rm", "rmdir", "rimraf", "del", "del-cli", "trash", "shx", "premove"}

// buildOutput matches paths that may be deleted before a build; otherBuildOutput those that may be if the sources are
// in a directory of their own.
var (
	buildOutput = lazyregexp.New(
		`^(?:\./)?(?:[\w@-][\w@.-]*/)*(?:dist[\w-]*|build|coverage|output|` +
			`\.(?:next|nuxt|output|cache|turbo|nyc_output|parcel-cache|svelte-kit)|` +
			`[\w.*-]*\.tsbuildinfo|public/(?:build|assets))` + withinIt,
	)
	otherBuildOutput = lazyregexp.New(`^(?:\./)?(?:out|lib|es|esm|cjs|umd|types|bin|tmp)` + withinIt)
)

const withinIt = `(?:/[\w*{},-][\w*.{},-]*)*/?$`

// OnlyCleans is the harm of commands that delete or prepare files, and do nothing else.
const OnlyCleans = "only deletes or prepares files"

// Harm tells why commands must not run unasked, as the end of a sentence; empty: they may. Files that version control
// ignores may be deleted.
func (p *Project) Harm(dir string, all []Command) string {
	cleans := 0
	for _, c := range all {
		if why := c.harm(); why != "" {
			return why
		}
		if removed := c.removes(); removed != nil {
			cleans++
			for _, name := range removed {
				if !p.mayRemove(dir, name) {
					return "deletes " + name
				}
			}
		}
		if slices.Contains([]string{"clean", "clobber"}, c.First()) ||
			slices.Contains([]string{"echo", "true", "mkdir"}, c.Program) {
			cleans++
		}
	}
	if len(all) > 0 && cleans == len(all) {
		return OnlyCleans
	}
	return ""
}

// harm is Project.Harm for one command that deletes nothing.
func (c Command) harm() string {
	first := c.First()
	if slices.Contains(actors, c.Program) || slices.Contains(acts[c.Program], first) {
		return "runs " + strings.TrimSpace(c.Program+" "+first)
	}
	if actingWord.MatchString(c.Program) {
		return "runs " + c.Program
	}
	if i := slices.IndexFunc(c.Args, actingWord.MatchString); i >= 0 && first != "run" && c.removes() == nil {
		return "runs " + c.Program + " " + c.Args[i]
	}
	if c.Has("--push") || c.Has("--publish") {
		return "pushes or publishes: " + c.Program
	}
	if why := rewrites(c); why != "" {
		return "changes sources: " + why
	}
	return ""
}

// removes returns what a command deletes; nil: it does not delete.
func (c Command) removes() []string {
	if !slices.Contains(removers, c.Program) || c.Program == "shx" && c.First() != "rm" {
		return nil
	}
	removed := []string{}
	for _, arg := range c.Args {
		if !strings.HasPrefix(arg, "-") && !(c.Program == "shx" && arg == "rm") {
			removed = append(removed, arg)
		}
	}
	return removed
}

// mayRemove reports whether a file in a directory is the output of a build, or ignored by version control.
func (p *Project) mayRemove(dir, name string) bool {
	return buildOutput.MatchString(name) || p.isIgnored(dir, name) ||
		otherBuildOutput.MatchString(name) && p.Has(path.Join(dir, "src"))
}

// rewrites tells by what a command changes sources, as formatters do; empty: it does not.
func rewrites(c Command) string {
	writes := false
	switch c.Program {
	case "prettier":
		writes = c.Has("--write", "-w")
	case "eslint", "stylelint", "oxlint", "standard", "xo", "tslint", "markdownlint", "clippy":
		writes = c.Has("--fix", "--fix-type")
	case "biome":
		writes = c.Has("--write", "--apply", "--fix")
	case "gofmt", "goimports", "gofumpt":
		writes = c.Has("-w")
	case "go":
		writes = c.First() == "fmt" || c.First() == "fix" || c.First() == "mod" || c.First() == "generate"
	case "black", "isort", "autopep8", "yapf":
		writes = !c.Has("--check", "--diff", "--check-only", "-d")
	case "ruff":
		writes = c.Has("--fix") || c.First() == "format" && !c.Has("--check", "--diff")
	case "cargo":
		writes = c.First() == "fix" || c.First() == "fmt" && !c.Has("--check") || c.Has("--fix")
	case "rubocop", "standardrb":
		writes = c.Has("-a", "-A", "--autocorrect", "--autocorrect-all", "--auto-correct", "--fix")
	case "php-cs-fixer", "phpcbf", "pint":
		writes = !c.Has("--dry-run", "--test")
	case "clang-format":
		writes = c.Has("-i")
	case "jest", "vitest", "react-scripts":
		writes = c.Has("-u", "--updateSnapshot", "--update")
	case "ncu", "npm-check-updates", "sort-package-json", "lint-staged":
		writes = true
	}
	if !writes {
		return ""
	}
	return c.Program
}

var portIn = lazyregexp.New(
	`(?:\bPORT["']?\s*[=:,]\s*["']?|--port[ =]|-p |[Ll]isten\(\s*|` +
		`ListenAndServe(?:TLS)?\(["'` + "`" + `][^"'` + "`" + `]*:|` +
		`[Ll]isten\([^)\n]*:|bind\([^)\n]*[:,]\s*|runserver [0-9.]*:?|http\.server |--bind[ =][^ ]*:|` +
		`PORT (?:\|\||\?\?) ["']?|` +
		`(?:HTTPServer|TCPServer|ServerSocket|InetSocketAddress|run|start)\((?:[^)\n]*[ ,=(])?)([1-9][0-9]{3,4})\b`,
)

// PortOf returns the port that a command or source seems to listen on; 0: none.
func PortOf(text string) int {
	port := 0
	if m := portIn.FindStringSubmatch(text); m != nil {
		for _, digit := range m[1] {
			port = port*10 + int(digit-'0')
		}
	}
	if port > 65535 {
		return 0
	}
	return port
}
