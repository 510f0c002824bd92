package draft

import (
	"path"
	"slices"
	"strings"

	"omnivigil/internal/draft/project"
	"omnivigil/internal/text/lazyregexp"
)

// Members is a draft with a file for each directory that has a manifest of its own.
type Members struct {
	Text  string            // of the project's own file
	Files map[string]string // of the others, by directory
}

// members divides a draft by the directories whose manifests its units come from; nil: fewer than two have one.
func members(p *project.Project) *Members {
	of := map[string][]int{} // positions of units, by directory
	var dirs []string
	for i, u := range p.Units {
		if dir := manifestDir(u); dir != "" {
			if of[dir] == nil {
				dirs = append(dirs, dir)
			}
			of[dir] = append(of[dir], i)
		}
	}
	dirs = slices.DeleteFunc(slices.Clone(dirs), func(dir string) bool {
		return !plainDir.MatchString(dir) || isNested(dir, dirs) || isAmbiguous(dir, dirs)
	})
	if len(dirs) < 2 {
		return nil
	}
	full := map[string]string{} // names of units as the other files have them
	for _, dir := range dirs {
		for _, i := range of[dir] {
			full[p.Units[i].Name] = path.Base(dir) + "/" + p.Units[i].Name
		}
	}
	m := &Members{Files: map[string]string{}}
	own := *p
	own.Members, own.Units = dirs, nil
	for _, u := range p.Units {
		if !slices.Contains(dirs, manifestDir(u)) {
			u.Needs, u.Follows = named(u.Needs, full, ""), named(u.Follows, full, "")
			own.Units = append(own.Units, u)
		}
	}
	m.Text = text(&own)
	for _, dir := range dirs {
		var b strings.Builder
		b.WriteString("# What runs in " + dir + ", as a part of the project above or, with --alone, by itself.\n")
		for _, i := range of[dir] {
			b.WriteString("\n" + tableText(inMember(p.Units[i], dir, full)))
		}
		m.Files[dir] = b.String()
	}
	return m
}

// plainDir is a directory whose name can name a member, and has no characters that patterns interpret.
var plainDir = lazyregexp.New(`^([A-Za-z0-9_.-]+/)*[A-Za-z0-9][A-Za-z0-9_.-]*$`)

// manifestDir is the directory that a unit runs in, if its manifest is there, too; empty: it is that of the project, or
// another one.
func manifestDir(u project.Unit) string {
	file, _, _ := strings.Cut(u.From, ":")
	if dir := path.Clean(u.Dir); u.Dir != "" && dir != "." && path.Dir(file) == dir {
		return dir
	}
	return ""
}

// isNested reports whether a directory is below another one.
func isNested(dir string, dirs []string) bool {
	return slices.ContainsFunc(dirs, func(other string) bool { return strings.HasPrefix(dir, other+"/") })
}

// isAmbiguous reports whether another directory has the same name.
func isAmbiguous(dir string, dirs []string) bool {
	return slices.ContainsFunc(dirs, func(other string) bool {
		return other != dir && path.Base(other) == path.Base(dir)
	})
}

// named are names of units as a member has them; empty: as the project has them.
func named(names []string, full map[string]string, member string) (all []string) {
	for _, name := range names {
		if of, is := full[name]; is && strings.TrimSuffix(of, "/"+name) != member {
			name = of
		}
		all = append(all, name)
	}
	return all
}

// inMember is a unit as the file in its directory describes it.
func inMember(u project.Unit, dir string, full map[string]string) project.Unit {
	member := path.Base(dir)
	u.Dir = ""
	u.Needs, u.Follows = named(u.Needs, full, member), named(u.Follows, full, member)
	u.Watch, u.Ignore, u.Outputs = below(u.Watch, dir), below(u.Ignore, dir), below(u.Outputs, dir)
	u.EnvFiles = below(u.EnvFiles, dir)
	if u.Setup != nil {
		setup := *u.Setup
		setup.Dir = relative(setup.Dir, dir)
		setup.Inputs, setup.Outputs = below(setup.Inputs, dir), below(setup.Outputs, dir)
		u.Setup = &setup
	}
	return u
}

// below makes paths and patterns relative to a directory.
func below(patterns []string, dir string) (all []string) {
	for _, p := range patterns {
		all = append(all, relative(p, dir))
	}
	return all
}

func relative(pattern, dir string) string {
	pattern = path.Clean(pattern)
	up := ""
	for base := dir; base != "."; base = path.Dir(base) {
		if rest, is := strings.CutPrefix(pattern+"/", base+"/"); is {
			return path.Clean(up + rest)
		}
		up += "../"
	}
	return path.Clean(up + pattern)
}
