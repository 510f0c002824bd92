// Package adhoc writes a settings file for a typed command, so that omnivigil on runs a project like any other.
package adhoc

import (
	"errors"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"omnivigil/internal/plan/document"
	"omnivigil/internal/text/lazyregexp"
)

// Kind is what is known of the command in advance.
type Kind string

// The kinds.
const (
	Unknown Kind = ""        // a service once it listens or has been running for a while, a task if it ends
	Service Kind = "service" //
	Task    Kind = "task"    //
)

// Command is a command to run again whenever files change. Paths are relative to the directory that it runs in.
type Command struct {
	Words    []string // the program and its arguments
	Globs    []string // for the files whose changes count; none: all that version control does not ignore
	Ignore   []string
	EnvFiles []string
	Then     []string      // shell commands, each run when the one before has succeeded
	Name     string        // of its unit; empty: derived from its words
	Debounce time.Duration // 0: as in any project
	Ready    string        // see readiness; empty: it is ready when it listens or has been running for a while
	Kind     Kind
}

// Check returns what is wrong with the command, or nil.
func (c Command) Check() error {
	for _, text := range slices.Concat(c.Words, c.Globs, c.Ignore, c.EnvFiles, c.Then) {
		if !utf8.ValidString(text) {
			return fmt.Errorf("%q is not text in UTF-8", text)
		}
	}
	for _, glob := range slices.Concat(c.Globs, c.Ignore) {
		if filepath.IsAbs(glob) || glob == ".." || strings.HasPrefix(glob, "../") {
			return fmt.Errorf("%s is outside of this directory: change to a directory that contains it, or use -C",
				glob)
		}
	}
	switch {
	case len(c.Words) == 0:
		return errors.New("there is no command")
	case c.Kind == Task && c.Ready != "":
		return errors.New("--ready is for a service, and --task says that it ends")
	case c.Kind == Service && len(c.Then) > 0:
		return errors.New("--then waits for the end of a task, and --service says that it does not end")
	case c.Ready != "" && len(c.Then) > 0:
		return errors.New("--then waits for the end of a task, and --ready is for a service")
	}
	return nil
}

// kind is the table of the command's unit: with commands after it, it has to end; with a readiness check it does not.
func (c Command) kind() Kind {
	switch {
	case len(c.Then) > 0:
		return Task
	case c.Ready != "":
		return Service
	}
	return c.Kind
}

// Settings returns the command as the settings of a project, in the format of omnivigil.toml.
func (c Command) Settings() string {
	var b strings.Builder
	name, kind := c.UnitName(), c.kind()
	table := string(kind)
	if kind == Unknown {
		table = string(Task)
	}
	fmt.Fprintf(&b, "[%s.%s]\nrun = %s\n", table, key(name), c.run())
	if kind == Unknown {
		b.WriteString("may_serve = true # a service once it listens or has lived for 10 s\n")
		b.WriteString("results = \"auto\"\n")
	}
	fmt.Fprintf(&b, "watch = %s\n", document.QuotedList(c.watch()))
	for _, l := range []struct {
		key   string
		words []string
	}{{"ignore", c.Ignore}, {"env_files", c.EnvFiles}} {
		if len(l.words) > 0 {
			fmt.Fprintf(&b, "%s = %s\n", l.key, document.QuotedList(l.words))
		}
	}
	if c.Debounce > 0 {
		fmt.Fprintf(&b, "debounce = %s\n", document.QuotedText(c.Debounce.String()))
	}
	if c.Ready != "" {
		fmt.Fprintf(&b, "ready = { %s }\n", readiness(c.Ready))
	}
	before, taken := name, map[string]bool{name: true}
	for _, then := range c.Then {
		next := unused(nameOf(strings.Fields(then)), taken)
		fmt.Fprintf(&b, "\n[task.%s]\nrun = %s\nfollows = [%s]\n", key(next), document.QuotedText(then),
			document.QuotedText(before))
		before = next
	}
	return b.String()
}

// Units returns the names of the command's unit and of those that follow it.
func (c Command) Units() []string {
	names := []string{c.UnitName()}
	taken := map[string]bool{names[0]: true}
	for _, then := range c.Then {
		names = append(names, unused(nameOf(strings.Fields(then)), taken))
	}
	return names
}

// UnitName is the name of the command's unit.
func (c Command) UnitName() string {
	if c.Name != "" {
		return c.Name
	}
	return nameOf(c.Words)
}

// run is the value of the unit's run. A single word is a shell line, unless it is the name of a program.
func (c Command) run() string {
	if len(c.Words) == 1 {
		if _, err := exec.LookPath(c.Words[0]); err != nil {
			return document.QuotedText(c.Words[0])
		}
	}
	words := make([]string, len(c.Words))
	for i, w := range c.Words {
		words[i] = strings.ReplaceAll(w, "$", "$$") // otherwise ${NAME} in it would be a variable
	}
	return document.QuotedList(words)
}

// watch returns patterns for the globs that were typed, in which a directory means everything in it.
func (c Command) watch() []string {
	if len(c.Globs) == 0 {
		return []string{"**"}
	}
	all := make([]string, len(c.Globs))
	for i, glob := range c.Globs {
		all[i] = filepath.ToSlash(filepath.Clean(glob))
		if info, err := os.Stat(glob); err == nil && info.IsDir() {
			all[i] = strings.TrimPrefix(all[i]+"/**", "./")
		}
	}
	return all
}

// readiness is the readiness check of a service: a port, an address, a duration, or a line of output.
func readiness(ready string) string {
	if port, err := strconv.Atoi(ready); err == nil {
		return fmt.Sprintf("port = %d", port)
	}
	if at, err := url.Parse(ready); err == nil && (at.Scheme == "http" || at.Scheme == "https") {
		return "http = " + document.QuotedText(ready)
	}
	if _, err := time.ParseDuration(ready); err == nil {
		return "after = " + document.QuotedText(ready)
	}
	return "line = " + document.QuotedText(ready)
}

// tools are programs whose first plain argument tells more than their names.
var tools = lazyregexp.New(
	`^(go|cargo|npm|npx|pnpm|yarn|bun|deno|node|make|just|python[0-9.]*|uv|poetry|ruby|bundle|rake|mix|dotnet|mvn` +
		`|gradle|gradlew|php|java|env|sh|bash)$`,
)

// Words that tell nothing, either.
var passedOver = lazyregexp.New(`^(run|exec|tool|env|-m)$`)

var plainWord = lazyregexp.New(`^[A-Za-z][A-Za-z0-9:_-]*$`)

var notInNames = lazyregexp.New(`[^A-Za-z0-9_.-]+`)

// nameOf derives a unit's name from the words of a command.
func nameOf(words []string) string {
	name := "command"
	if len(words) > 0 {
		if len(words) == 1 {
			words = strings.Fields(words[0])
		}
		name = strings.TrimSuffix(filepath.Base(words[0]), filepath.Ext(words[0]))
		if tools.MatchString(name) {
			for _, w := range words[1:] {
				if passedOver.MatchString(w) {
					continue
				}
				if plainWord.MatchString(w) {
					name = w
				} else if base := filepath.Base(w); !strings.HasPrefix(w, "-") &&
					plainWord.MatchString(strings.TrimSuffix(base, filepath.Ext(base))) {
					name = strings.TrimSuffix(base, filepath.Ext(base))
				}
				break
			}
		}
	}
	name = strings.Trim(notInNames.ReplaceAllString(name, "-"), "-_.")
	if name == "" || name == "omnivigil" {
		return "command"
	}
	return name
}

func unused(name string, taken map[string]bool) string {
	free := name
	for n := 2; taken[free]; n++ {
		free = fmt.Sprintf("%s-%d", name, n)
	}
	taken[free] = true
	return free
}

// key is a name as a TOML key, quoted if necessary.
func key(name string) string {
	if strings.Contains(name, ".") {
		return document.QuotedText(name)
	}
	return name
}
