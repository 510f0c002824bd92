package settings

import (
	"os"
	"path/filepath"
	"slices"
	"strings"

	"omnivigil/internal/files"
	"omnivigil/internal/plan"
	"omnivigil/internal/plan/document"
	"omnivigil/internal/plan/values"
	"omnivigil/internal/plan/variables"
)

// project is the reading of a project's settings: the file itself and those of its members.
type project struct {
	shown, root string     // as for parsePlan
	before      *plan.Plan // has the last good settings of members; may be nil
	// replaced are members whose settings are invalid, with what is wrong, so that those of before are used.
	replaced map[string]string
	texts    map[string][]byte  // contents of files that differ from those on disk, by absolute path
	owners   map[string]*reader // of units
	readers  []*reader          // the project's own first
	// elsewhere is the project that has this one as a member; nil: it was not looked for.
	elsewhere *plan.Plan
}

// data returns the contents of a file.
func (p *project) data(file string) ([]byte, error) {
	if text, is := p.texts[file]; is {
		return text, nil
	}
	return files.Read(file, files.Sane)
}

// parse reads the project whose own file is abs. While a member is invalid that has earlier settings, it is read again
// with these.
func (p project) parse(abs string, data []byte) (*plan.Plan, error) {
	p.replaced = map[string]string{}
	for {
		p.owners, p.readers = map[string]*reader{}, nil
		read, invalid := p.read(abs, data)
		problems := p.problems()
		if len(problems) == 0 {
			return read, nil
		}
		again := false
		for member, problem := range invalid {
			if p.before != nil && p.before.Member(member) != nil && p.replaced[member] == "" {
				p.replaced[member], again = problem, true
			}
		}
		if !again {
			return nil, problems
		}
	}
}

// membership is which of a project's files a reader reads.
type membership struct {
	*project
	file     string  // absolute
	member   string  // its name; empty: the project itself
	path     string  // of the directory, relative to the project's, with slashes; empty: it is that
	above    *reader // of the project; nil: this is it
	envFiles []string
}

// dir is the directory of the file.
func (m membership) dir() string {
	if m.project == nil { // a user's own settings
		return ""
	}
	return filepath.Join(m.root, filepath.FromSlash(m.path))
}

// newReader returns a reader of a file's contents.
func (p *project) newReader(of membership, shown string, data []byte, into *plan.Plan) *reader {
	of.project = p
	r := &reader{
		Reader: &values.Reader{Document: document.Parse(shown, data)}, membership: of, plan: into,
		defaults: &document.Table{},
		env:      &variables.Known{Machine: os.LookupEnv}, places: map[string]*document.Entry{},
	}
	if of.above != nil {
		r.env.Project = of.above.env.Project
	}
	p.readers = append(p.readers, r)
	return r
}

// read reads all files. Invalid are the members whose own files are invalid, with what is wrong.
func (p *project) read(abs string, data []byte) (read *plan.Plan, invalid map[string]string) {
	read = &plan.Plan{
		Jobs: defaultJobs(), Logs: defaultLogs, History: defaultHistory, KeepChanges: true, File: abs, Root: p.root,
		Name: filepath.Base(p.root),
	}
	r := p.newReader(membership{file: abs}, p.shown, data, read)
	if len(r.Found) > 0 {
		return read, nil
	}
	r.readFile()
	r.readMembers()
	if invalid = p.invalid(); len(invalid) > 0 && p.before != nil {
		return read, invalid // what others need of these is a later question
	}
	read.BuildIndex()
	for _, each := range p.readers {
		each.checkNames()
	}
	p.checkOld(r)
	r.checkCircles()
	return read, p.invalid()
}

// invalid are the members whose files have problems, and what is wrong.
func (p *project) invalid() map[string]string {
	all := map[string]string{}
	for _, each := range p.readers[1:] {
		if len(each.Found) > 0 {
			all[each.member] = strings.ReplaceAll(each.Problems().Error(), p.root+string(filepath.Separator), "")
		}
	}
	return all
}

// checkOld reports units that the last good settings of a member need, and that are gone.
func (p *project) checkOld(r *reader) {
	for _, u := range r.plan.Units {
		if p.owners[u.Name] != nil {
			continue
		}
		for _, name := range u.Upstream() {
			if r.plan.Unit(name) == nil {
				r.Wrong(r.places["members"].KeyAt, "mend the settings of "+u.Member,
					"the last good settings of %s need %s, which is gone", u.Name, name)
			}
		}
	}
}

// problems are all problems.
func (p *project) problems() (all document.Problems) {
	for _, r := range p.readers {
		if len(r.Found) > 0 {
			all = append(all, r.Problems()...)
		}
	}
	return all
}

// shownOf is a file's name in problems: as the user has named the project's own.
func (p *project) shownOf(rel string) string {
	return filepath.Join(filepath.Dir(p.shown), filepath.FromSlash(rel), plan.FileName)
}

// readMembers reads the members' settings, in the order of their directories.
func (r *reader) readMembers() {
	if r.places["members"] == nil {
		return
	}
	var members []*reader
	for _, dir := range r.memberDirs() {
		file := filepath.Join(r.root, filepath.FromSlash(dir), plan.FileName)
		data, err := r.data(file)
		m := r.newReader(membership{file: file, path: dir, above: r}, r.shownOf(dir), data, r.plan)
		if err != nil {
			m.Wrong(document.Place{}, "", "cannot be read: %v", files.Reason(err))
		}
		members = append(members, m)
	}
	r.nameMembers(members)
	for _, m := range members {
		member := plan.Member{Name: m.member, Path: m.path, File: m.file, Problem: r.replaced[m.member]}
		r.plan.Members = append(r.plan.Members, member)
		switch {
		case member.Problem != "":
			m.Found = nil
			m.keepBefore()
		case len(m.Found) == 0:
			m.readFile()
		}
	}
}

// keepBefore uses the last good settings of the member.
func (r *reader) keepBefore() {
	for _, u := range r.before.Units {
		if u.Member == r.member {
			r.plan.Units = append(r.plan.Units, u)
		}
	}
	for _, g := range r.before.Groups {
		if strings.HasPrefix(g.Name, r.member+"/") {
			r.plan.Groups = append(r.plan.Groups, g)
		}
	}
}

// nameMembers gives each member the name of its directory, or of its [project] if several directories have one name.
func (r *reader) nameMembers(members []*reader) {
	count := map[string]int{}
	for _, m := range members {
		m.member = filepath.Base(filepath.FromSlash(m.path))
		count[m.member]++
	}
	taken := map[string]*reader{}
	for _, m := range members {
		if own := m.ownName(); count[m.member] > 1 && own != "" {
			m.member = own
		}
		switch other := taken[m.member]; {
		case other != nil:
			r.Wrong(r.places["members"].KeyAt, `give one of them a "name" in its [project]`,
				"%s and %s are both called %s", other.path, m.path, m.member)
		case !unitNames.MatchString(m.member):
			r.Wrong(r.places["members"].KeyAt, "letters, digits, '-', '_' and '.' make a name",
				"the directory %s cannot name a member", m.path)
		}
		taken[m.member] = m
	}
}

// ownName is the name in [project], if it can be that of a member.
func (r *reader) ownName() string {
	if r.Root == nil {
		return ""
	}
	if e := r.Root.Get("project"); e != nil && e.Value.Table != nil {
		if name := e.Value.Table.Get("name"); name != nil && unitNames.MatchString(name.Value.Text) {
			return name.Value.Text
		}
	}
	return ""
}

// full is the full name of a unit or group in this file.
func (m membership) full(name string) string {
	if m.member == "" {
		return name
	}
	return m.member + "/" + name
}

// resolve returns the full name of a unit, which may be short in its own file; empty: there is none.
func (r *reader) resolve(name string) string {
	for _, full := range []string{r.full(name), name} {
		if r.plan.Unit(full) != nil {
			return full
		}
	}
	return ""
}

// own are the units of this file.
func (r *reader) own() []*plan.Unit {
	for i, u := range r.plan.Units {
		if u.Member == r.member {
			n := i
			for n < len(r.plan.Units) && r.plan.Units[n].Member == r.member {
				n++
			}
			return r.plan.Units[i:n]
		}
	}
	return nil
}

// readDefaultsOf reads the keys that a unit has by default: those of the project and then those of its own file.
func (r *reader) readDefaultsOf(u *plan.Unit, early bool) {
	for _, from := range []*reader{r.above, r} {
		if from == nil {
			continue
		}
		known := from.env
		from.env = r.env
		for _, d := range from.defaults.Entries {
			if key, ok := unitKeys[d.Key]; ok && key.fits(u.Kind) && key.early == early {
				key.read(from, u, d)
			}
		}
		from.env = known
	}
}

// isDefault reports whether units have a key by default.
func (r *reader) isDefault(key string) bool {
	return r.defaults.Get(key) != nil || r.above != nil && r.above.isDefault(key)
}

// ofProject reads a key of [project] in the settings of a member, and reports whether it is done with. What is about
// the whole project is that of the project's own settings.
func (r *reader) ofProject(e *document.Entry) (done bool) {
	switch e.Key {
	case "env_files":
		names, found := r.readEnvFiles(e)
		r.envFiles, r.env.Project = names, slices.Concat(r.above.env.Project, found)
	case "members":
		r.Wrong(e.KeyAt, "list its directories in the settings of "+r.plan.Name, "a member cannot have members")
	case "name", "jobs", "logs", "history", "keep_changes", "share", "on_verdict":
	default:
		return false
	}
	return true
}

// relative is a path of this file relative to the project's directory.
func (m membership) relative(name string) string {
	if m.path == "" || filepath.IsAbs(name) {
		return name
	}
	return filepath.ToSlash(filepath.Join(filepath.FromSlash(m.path), name))
}
