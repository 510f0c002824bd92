package settings

import (
	"bytes"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"omnivigil/internal/files"
	"omnivigil/internal/plan"
	"omnivigil/internal/plan/capture"
	"omnivigil/internal/plan/document"
)

// maxMembers limits the members of a project.
const maxMembers = 500

// memberPatterns reads the patterns of directories with their own settings.
func (r *reader) memberPatterns(e *document.Entry) []string {
	r.places["members"] = e
	var patterns []string
	for i, text := range r.Words(e.Value, e.Key) {
		at := e.Value.Items[i].At
		clean := path.Clean(filepath.ToSlash(text))
		switch {
		case !doublestar.ValidatePattern(text) || text == "":
			r.Wrong(at, `such as "services/*" or "../web"`, "%q is not a pattern of directories", text)
		case path.IsAbs(clean) || filepath.IsAbs(text):
			r.Wrong(at, `write it relative to the directory of `+plan.FileName, "%q is absolute", text)
		case clean == "." || clean == "..":
			r.Wrong(at, `such as "services/*" or "../web"`, "%q is the project itself, or what has it", text)
		case !hasWildcard(clean) && !hasSettings(r.root, clean):
			r.Wrong(at, "omnivigil draft writes one", "there is no %s in %s", plan.FileName, text)
		default:
			patterns = append(patterns, clean)
		}
	}
	return patterns
}

func hasWildcard(pattern string) bool { return strings.ContainsAny(pattern, `*?[{\`) }

func hasSettings(root, dir string) bool {
	info, err := os.Stat(filepath.Join(root, filepath.FromSlash(dir), plan.FileName))
	return err == nil && info.Mode().IsRegular()
}

// memberDirs returns the directories of the members, relative to the project's, in order.
func (r *reader) memberDirs() []string {
	dirs := memberDirs(r.root, r.plan.MemberPatterns)
	if len(dirs) > maxMembers {
		r.Wrong(r.places["members"].KeyAt, "write narrower patterns", "there are more than %d members", maxMembers)
		return dirs[:maxMembers]
	}
	return dirs
}

func memberDirs(root string, patterns []string) []string {
	var dirs []string
	for _, pattern := range patterns {
		found := []string{pattern}
		if hasWildcard(pattern) {
			found = nil
			whole := filepath.Join(capture.Literal(root), filepath.FromSlash(pattern))
			matches, err := doublestar.FilepathGlob(whole, doublestar.WithNoFollow())
			for _, dir := range matches {
				if rel, relErr := filepath.Rel(root, dir); err == nil && relErr == nil {
					found = append(found, filepath.ToSlash(rel))
				}
			}
		}
		for _, dir := range found {
			if dir != "." && hasSettings(root, dir) {
				dirs = append(dirs, dir)
			}
		}
	}
	slices.Sort(dirs)
	return slices.Compact(dirs)
}

// rebased makes a pattern of this file relative to the project's directory.
func (m membership) rebased(pattern string) string {
	if m.path == "" {
		return pattern
	}
	base, rest := m.path, strings.TrimPrefix(pattern, "./")
	for strings.HasPrefix(rest, "../") {
		up := path.Dir(base)
		if base == "." || path.Base(base) == ".." {
			up = path.Join(base, "..")
		}
		base, rest = up, rest[3:]
	}
	if base == "." {
		return rest
	}
	return capture.Literal(base) + "/" + rest
}

// AsWritten returns values of a list of a unit as they are written in its own settings: patterns relative to its file,
// and short names of units.
func AsWritten(p *plan.Plan, u *plan.Unit, key string, values []string) []string {
	member := p.Member(u.Member)
	if member == nil {
		return values
	}
	own := make([]string, len(values))
	for i, v := range values {
		if key == "needs" || key == "follows" {
			own[i] = strings.TrimPrefix(v, u.Member+"/")
			continue
		}
		own[i] = unrebased(member.Path, v)
	}
	return own
}

// unrebased is the inverse of rebased.
func unrebased(dir, pattern string) string {
	if rest, is := strings.CutPrefix(pattern, capture.Literal(dir)+"/"); is {
		return rest
	}
	up, rest := "", pattern
	for dir != "." && path.Base(dir) != ".." {
		up, dir = up+"../", path.Dir(dir)
		if below, is := strings.CutPrefix(pattern, capture.Literal(dir)+"/"); is {
			rest = below
			break
		}
	}
	return up + rest
}

// Project returns the settings file of the project whose member has the settings in a file, absolute: the nearest one
// above it that names its directory. Empty: there is none.
func Project(file string) string {
	dir := filepath.Dir(file)
	for above := filepath.Dir(dir); above != filepath.Dir(above); above = filepath.Dir(above) {
		if root := filepath.Join(above, plan.FileName); HasMember(root, dir) {
			return root
		}
	}
	return ""
}

// HasMember reports whether the project with a settings file has a directory as a member. The file need not be valid.
func HasMember(root, dir string) bool {
	rel, err := filepath.Rel(filepath.Dir(root), dir)
	return err == nil && slices.Contains(memberDirs(filepath.Dir(root), patternsIn(root)), filepath.ToSlash(rel))
}

// HasMembers reports whether a settings file names members. The file need not be valid.
func HasMembers(file string) bool { return len(patternsIn(file)) > 0 }

// patternsIn are the patterns of members in a settings file, as far as it can be read.
func patternsIn(file string) []string {
	data, err := files.Read(file, files.Sane)
	if err != nil || !bytes.Contains(data, []byte("members")) {
		return nil
	}
	doc := document.Parse(file, data)
	if doc.Root == nil {
		return nil
	}
	e := doc.Root.Get("project")
	if e == nil || e.Value.Table == nil || e.Value.Table.Get("members") == nil {
		return nil
	}
	var patterns []string
	for _, item := range e.Value.Table.Get("members").Value.Items {
		if doublestar.ValidatePattern(item.Text) {
			patterns = append(patterns, path.Clean(filepath.ToSlash(item.Text)))
		}
	}
	return patterns
}
