package node

import (
	"path"
	"slices"
	"strings"

	"omnivigil/internal/draft/project"
)

// role is what a script is for.
type role uint8

const (
	asUnknown     role = iota
	asHarm             // it must not run unasked
	asCleaner          // it only deletes or prepares files
	asCombination      // it starts other scripts, side by side
	asTests
	asCheck      // a linter or type checker
	asCompiler   // once
	asRecompiler // a compiler that picks up changes by itself
	asServer     // a program that keeps running, or may
	asReloader   // a server that picks up changes by itself
)

// judgement is what is known of a script.
type judgement struct {
	role    role
	why     string          // of what is left out, as the end of a sentence
	calls   []string        // other scripts that it starts
	main    project.Command // by which it was judged
	makes   []string        // files and directories that it writes, relative to the package
	entry   string          // the source that it runs
	maybe   bool            // it is not known whether it keeps running
	once    []string        // for a tool that would not end, or restart by itself: the same without that
	slow    bool            // it needs a browser, or a server that is running
	sources []string        // patterns, if it does not read all kinds of sources
}

// script is a script of a package.
type script struct {
	name, text string
	at         string // file and line
	commands   []project.Command
	alone      bool // without the scripts that npm runs before and after it
	judgement
}

// referred returns the script that a command starts by a package manager, or "".
func referred(c project.Command) string {
	switch c.Program {
	case "npm", "pnpm", "yarn", "bun":
		rest := slices.DeleteFunc(slices.Clone(c.Args), func(arg string) bool { return strings.HasPrefix(arg, "-") })
		switch {
		case len(rest) > 1 && (rest[0] == "run" || rest[0] == "run-script"):
			return rest[1]
		case len(rest) > 0 && rest[0] == "t":
			return "test"
		case len(rest) > 0 && rest[0] != "run":
			return rest[0]
		}
	}
	return ""
}

// elsewhere reports whether a command starts scripts of other packages.
func elsewhere(c project.Command) bool {
	if !slices.Contains([]string{"npm", "pnpm", "yarn", "bun"}, c.Program) {
		return false
	}
	return c.Dir != "" || c.First() == "workspace" || c.First() == "workspaces" ||
		c.Has(
			"-w",
			"--workspace",
			"--workspaces",
			"-ws",
			"-r",
			"--recursive",
			"--filter",
			"-F",
			"--prefix",
			"-C",
			"--cwd",
		)
}

// startsElsewhere reports whether an argument is a command that does that.
func startsElsewhere(arg string) bool {
	return strings.Contains(arg, " ") && slices.ContainsFunc(project.CommandsOf(arg), elsewhere)
}

// measuring are programs that run another one, and whose flags may have values.
var measuring = []string{"nyc", "c8", "dotenv"}

// inner returns the command that one of those runs.
func inner(c project.Command) project.Command {
	if i := slices.IndexFunc(c.Args, isProgram); i >= 0 && slices.Contains(measuring, c.Program) {
		c.Program, c.Args = c.Args[i], c.Args[i+1:]
	}
	return c
}

// isProgram reports whether a word is a known tool or interpreter.
func isProgram(word string) bool {
	_, known := tools[word]
	return known || slices.Contains(interpreters, word)
}

// judge tells what one command is for.
func judge(c project.Command) (j judgement) {
	c = inner(c)
	j.main = c
	known, is := tools[c.Program]
	switch {
	case slices.Contains(interpreters, c.Program):
		return judgeProgram(c)
	case !is:
		if i := slices.IndexFunc(c.Args, sourceFile.MatchString); i >= 0 {
			j.entry = path.Clean(c.Args[i])
		}
		return j
	}
	j.role, j.slow, j.sources = known.role, known.slow, known.sources
	if sub, is := known.subs[c.First()]; is {
		j.role = sub
	}
	if c.First() == "install" || c.First() == "init" {
		j.role = asUnknown
	}
	repeats := c.Has(again...) || c.Program == "vitest" && c.First() != "run" && !c.Has("--run") ||
		c.Program == "karma" && !c.Has("--single-run") || c.Program == "ng" && j.role == asTests && !c.Has("--watch") ||
		c.Program == "react-scripts" && j.role == asTests || c.Program == "cypress" && c.First() == "open"
	switch j.role {
	case asTests:
		if repeats {
			j.once = testOnce(c)
		}
	case asCheck:
		if repeats {
			j.once = c.Without(again...)
		}
	case asCompiler, asRecompiler:
		j.makes = outputsOf(c, known)
		switch {
		case c.Program == "tsc" && c.Has("--noEmit", "--noemit"):
			j.role, j.makes = asCheck, nil
		case (repeats || j.role == asRecompiler) && known.follows:
			j.role = asRecompiler
		case repeats:
			j.once = c.Without(again...)
		}
	case asReloader:
		if c.Program == "vite" && c.First() != "" && c.First() != "dev" && c.First() != "serve" &&
			!c.Has("--port", "--host") {
			j.role = asUnknown
		}
	}
	return j
}

// judgeProgram is judge for an interpreter.
func judgeProgram(c project.Command) (j judgement) {
	j.main, j.role = c, asServer
	args := c.Args
	if len(args) > 0 && (args[0] == "watch" || args[0] == "run") {
		if args = args[1:]; c.Args[0] == "watch" {
			j.once = append([]string{c.Program}, args...)
		}
	}
	if c.Has("--test") || c.First() == "test" {
		j.role = asTests
		if c.Has(again...) {
			j.once = c.Without(again...)
		}
		return j
	}
	if c.Has(again...) {
		j.once = c.Without(again...)
	}
	for _, arg := range args {
		if !strings.HasPrefix(arg, "-") && (sourceFile.MatchString(arg) || arg == "." || strings.Contains(arg, "/")) {
			j.entry = path.Clean(arg)
			return j
		}
	}
	if first := c.First(); first != "" && first != "watch" && first != "run" {
		j.entry = path.Clean(first)
		return j
	}
	j.role = asUnknown
	return j
}

// testOnce is the form of a test runner's command that ends.
func testOnce(c project.Command) []string {
	words := c.Without(again...)
	switch c.Program {
	case "vitest":
		words = slices.DeleteFunc(words, func(w string) bool { return w == "watch" || w == "dev" })
		return slices.Insert(words, 1, "run")
	case "karma":
		return append(words, "--single-run")
	case "ng", "react-scripts":
		return append(words, map[string]string{"ng": "--watch=false", "react-scripts": "--watchAll=false"}[c.Program])
	case "cypress":
		return []string{"cypress", "run"}
	}
	return words
}

// outputsOf returns where a build tool writes.
func outputsOf(c project.Command, known tool) []string {
	var made []string
	for i, arg := range c.Args {
		name, value, is := strings.Cut(arg, "=")
		switch {
		case is && slices.Contains(outputFlags, name):
			made = append(made, value)
		case slices.Contains(outputFlags, arg) && i+1 < len(c.Args):
			made = append(made, c.Args[i+1])
		case c.Program == "sass" && strings.Contains(arg, ":"):
			_, to, _ := strings.Cut(arg, ":")
			made = append(made, to)
		case c.Program == "sass" && strings.HasSuffix(arg, ".css"):
			made = append(made, arg)
		}
	}
	if len(made) == 0 && known.makes != "" {
		made = []string{known.makes}
	}
	for i := range made {
		made[i] = path.Clean(made[i])
	}
	return slices.DeleteFunc(
		made,
		func(m string) bool { return m == "." || strings.HasPrefix(m, "..") || path.IsAbs(m) },
	)
}
