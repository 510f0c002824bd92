package draft

import (
	"encoding/json"
	"fmt"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"omnivigil/internal/plan"
	"omnivigil/internal/text/lazyregexp"
)

// manifest is the part of a package.json that is read.
type manifest struct {
	Name         string            `json:"name"`
	Scripts      map[string]string `json:"scripts"`
	Dependencies map[string]string `json:"dependencies"`
	Development  map[string]string `json:"devDependencies"`
	Workspaces   json.RawMessage   `json:"workspaces"`
}

// nodeTool is a package manager.
type nodeTool struct{ name, lock, install string }

// nodeTools are recognized by their lock files; the last one is the default.
var nodeTools = []nodeTool{
	{"pnpm", "pnpm-lock.yaml", "pnpm install --frozen-lockfile"}, {"yarn", "yarn.lock", "yarn install --immutable"},
	{"bun", "bun.lock", "bun install --frozen-lockfile"}, {"bun", "bun.lockb", "bun install --frozen-lockfile"},
	{"npm", "package-lock.json", "npm ci"}, {"npm", "package.json", "npm install"},
}

// selfWatching are commands that pick up changes by themselves.
var selfWatching = lazyregexp.New(
	`--watch\b|\bwatch\b|\bvite\b( dev| serve|$)|next dev|webpack serve|ng serve|parcel( serve)?|tsc.* -w\b|astro ` +
		`dev|nuxt dev|--hot\b`,
)

var compilers = lazyregexp.New(`\b(tsc|vite build|webpack|rollup)\b.*(--watch|-w)\b`)

// readNode finds the scripts of a package and of its workspaces.
func readNode(p *project) {
	root, ok := p.manifest("package.json")
	if !ok {
		return
	}
	tool := nodeTools[len(nodeTools)-1]
	for _, t := range nodeTools {
		if p.has(t.lock) {
			tool = t
			break
		}
	}
	n := &node{project: p, tool: tool}
	workspaces := p.workspaces(root)
	if len(root.Dependencies)+len(root.Development)+len(workspaces) > 0 {
		n.setup = &step{run: tool.install, inputs: []string{tool.lock}, outputs: []string{"node_modules"}}
		p.note("%s installs packages: %s is there", tool.name, tool.lock)
	}
	n.read("", root, len(workspaces) > 0)
	for _, dir := range workspaces {
		if m, ok := p.manifest(path.Join(dir, "package.json")); ok {
			n.read(dir, m, false)
		}
	}
}

func (p *project) manifest(name string) (m manifest, ok bool) {
	text := p.read(name)
	if text == "" {
		return m, false
	}
	if err := json.Unmarshal([]byte(text), &m); err != nil {
		p.note("%s could not be read: %v", name, err)
		return m, false
	}
	return m, true
}

var packagesList = lazyregexp.New(`(?m)^\s*-\s*['"]?([^'"\s#]+)`)

// workspaces returns the directories of a package's workspaces.
func (p *project) workspaces(m manifest) []string {
	var patterns []string
	if json.Unmarshal(m.Workspaces, &patterns) != nil {
		var table struct{ Packages []string }
		json.Unmarshal(m.Workspaces, &table)
		patterns = table.Packages
	}
	for _, match := range packagesList.FindAllStringSubmatch(p.read("pnpm-workspace.yaml"), -1) {
		patterns = append(patterns, match[1])
	}
	var dirs []string
	for _, pattern := range patterns {
		found, _ := filepath.Glob(
			filepath.Join(p.root, filepath.FromSlash(strings.ReplaceAll(pattern, "**", "*")), "package.json"),
		)
		for _, file := range found {
			if rel, err := filepath.Rel(
				p.root,
				filepath.Dir(file),
			); err == nil &&
				!slices.Contains(dirs, filepath.ToSlash(rel)) {
				dirs = append(dirs, filepath.ToSlash(rel))
			}
		}
	}
	return dirs
}

// node reads the packages of one Node project.
type node struct {
	*project
	tool  nodeTool
	setup *step
}

// read adds units for the scripts of a package in a directory. A package that only has workspaces often has scripts
// that run those of all workspaces.
func (n *node) read(dir string, m manifest, holdsOthers bool) {
	file := path.Join(dir, "package.json")
	base := func(of string) string {
		if dir == "" {
			return of
		}
		return path.Base(dir) + "-" + of
	}
	add := func(u unit, script string) string {
		u.from, u.dir, u.setup = fmt.Sprintf("the script %q of %s: %s", script, file, m.Scripts[script]), dir, n.setup
		if dir != "" && u.setup != nil {
			inRoot := *n.setup // steps run in the unit's directory
			inRoot.run = "cd " + strings.Repeat("../", strings.Count(dir, "/")+1) + " && " + inRoot.run
			u.setup = &inRoot
		}
		u.run = n.tool.name + " run " + script
		return n.add(u)
	}
	// Only simple commands; a script that runs those of other workspaces is left to them.
	has := func(script string) bool {
		text := m.Scripts[script]
		return text != "" && !(holdsOthers && regexp.MustCompile(`workspace|--recursive|-r `).MatchString(text))
	}
	sources := in(dir, "**/*.{js,mjs,cjs,jsx,ts,mts,tsx,json,css,html}")
	made := in(dir, "dist/**", "build/**", "coverage/**", "node_modules/**")
	build := ""
	if has("build") {
		build = add(
			unit{kind: plan.Task, name: base("build"), watch: sources, ignore: append(made, in(dir, "**/*.test.*")...)},
			"build",
		)
	}
	for _, script := range []string{"dev", "start", "serve"} {
		if !has(script) {
			continue
		}
		u := unit{kind: plan.Service, name: base(script), port: portOf(m.Scripts[script]), guess: "it keeps running"}
		if dir != "" {
			u.name = path.Base(dir)
		}
		switch text := m.Scripts[script]; {
		case compilers.MatchString(text):
			u.pass, u.watch, u.ignore, u.guess = true, sources, made, "it compiles again by itself"
		case selfWatching.MatchString(text):
			u.guess = "it picks up changes by itself, so nothing restarts it"
		default:
			u.watch, u.ignore = sources, append(made, in(dir, "**/*.test.*")...)
			if regexp.MustCompile(`\b(dist|build)/`).MatchString(text) && build != "" {
				u.watch, u.follows, u.guess = nil, []string{build}, "it runs what "+build+" makes"
			}
		}
		add(u, script)
		break
	}
	if has("test") && !strings.Contains(m.Scripts["test"], "no test specified") {
		add(unit{kind: plan.Suite, name: base("test"), watch: sources, ignore: made}, "test")
	}
	for _, script := range []string{"lint", "typecheck"} {
		if has(script) {
			add(unit{kind: plan.Task, name: base(script), watch: sources, ignore: made}, script)
		}
	}
}
