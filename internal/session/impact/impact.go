// Package impact answers which files affect which units: it translates the rules of a plan into the interests of a
// watcher, and back, and explains what a save would set off and what excludes a path. Start reading at Interests and
// Why.
package impact

import (
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/engine"
	"omnivigil/internal/plan"
	"omnivigil/internal/watch"
	"omnivigil/internal/watch/pattern"
)

// Settings is the key of the interest in the settings and env files. No unit can have that name.
const Settings = ""

// Elsewhere is the key of the interest in files that no rule of a unit matches. No unit can have that name.
const Elsewhere = "*"

// outputsPrefix is the beginning of the keys of the interests in outputs. No unit's name has a space.
const outputsPrefix = "outputs of "

// OutputsOf returns the unit whose outputs the interest with a key is about; empty: none.
func OutputsOf(key string) string {
	unit, is := strings.CutPrefix(key, outputsPrefix)
	if !is {
		return ""
	}
	return unit
}

// Units returns the keys that are names of units.
func Units(keys []string) []string {
	return slices.DeleteFunc(slices.Clone(keys), func(k string) bool {
		return k == Settings || k == Elsewhere || OutputsOf(k) != ""
	})
}

// OutputsRest is the debounce for outputs.
const OutputsRest = time.Second

// Makers returns the units that declare a file as an output.
func Makers(p *plan.Plan, file string) []string {
	var makers []string
	for _, u := range p.Units {
		if slices.ContainsFunc(u.Outputs, func(o plan.Pattern) bool { return pattern.Matches(p.Root, o.Text, file) }) {
			makers = append(makers, u.Name)
		}
	}
	return makers
}

// settingsDebounce is long enough for an editor's second write.
const settingsDebounce = 100 * time.Millisecond

// Interests returns the interests of a project: the settings and env files, and for each unit its reactions, its
// watch patterns and the inputs of its setup.
func Interests(p *plan.Plan) []pattern.Interest {
	settings := pattern.Interest{Key: Settings, Debounce: settingsDebounce, Unignored: true}
	for _, file := range SettingsFiles(p) {
		settings.Rules = append(settings.Rules, pattern.Rule{Pattern: pattern.Literal(filepath.ToSlash(file))})
	}
	for _, members := range p.MemberPatterns {
		settings.Rules = append(settings.Rules, pattern.Rule{Pattern: members + "/" + plan.FileName})
	}
	all := []pattern.Interest{settings}
	for _, u := range p.Units {
		in := pattern.Interest{
			Key:           u.Name,
			Debounce:      u.Debounce,
			Unignored:     u.Unignored,
			SkipUnchanged: u.SkipUnchanged || u.Pass != nil,
			Poll:          u.Poll,
		}
		for _, re := range u.Reactions {
			in.Rules = append(in.Rules, pattern.Rule{Pattern: re.When.Text, Out: re.Do == plan.Nothing})
		}
		for _, w := range u.Watch {
			in.Rules = append(in.Rules, pattern.Rule{Pattern: w.Text})
		}
		for _, step := range u.Setup {
			for _, input := range step.Inputs {
				in.Rules = append(in.Rules, pattern.Rule{Pattern: input.Text})
			}
		}
		for _, i := range slices.Concat(u.Ignore, u.Outputs) {
			in.Ignore = append(in.Ignore, i.Text)
		}
		if len(in.Rules) > 0 {
			all = append(all, in)
		}
	}
	return all
}

// inOutputs returns the interests in the units' outputs.
func inOutputs(p *plan.Plan) []pattern.Interest {
	var all []pattern.Interest
	for _, u := range p.Units {
		if len(u.Outputs) == 0 || !u.Kind.Ends() {
			continue
		}
		made := pattern.Interest{Key: outputsPrefix + u.Name, Debounce: OutputsRest, Unignored: true, Poll: u.Poll}
		for _, o := range u.Outputs {
			made.Rules = append(made.Rules, pattern.Rule{Pattern: o.Text})
		}
		all = append(all, made)
	}
	return all
}

// SettingsFiles returns the settings files and all env files, relative to the project's directory.
func SettingsFiles(p *plan.Plan) []string {
	var files []string
	if !p.Elsewhere() {
		files = append(files, filepath.Base(p.File))
	}
	for _, m := range p.Members {
		files = append(files, path.Join(m.Path, plan.FileName))
	}
	files = append(files, p.EnvFiles...)
	for _, u := range p.Units {
		files = append(files, u.EnvFiles...)
	}
	slices.Sort(files)
	return slices.Compact(files)
}

// withMore adds files to the interests of units, after their rules.
func withMore(all []pattern.Interest, more map[string][]string) []pattern.Interest {
	for i := range all {
		for _, file := range more[all[i].Key] {
			all[i].Rules = append(all[i].Rules, pattern.Rule{Pattern: pattern.Literal(file)})
		}
	}
	return all
}

// elsewhereDebounce is long enough for temporary files of tools to disappear.
const elsewhereDebounce = 300 * time.Millisecond

// InterestsOf is Interests with more files that affect units, without files that units ignore, and with the interest in
// files that no rule matches.
func InterestsOf(p *plan.Plan, more, ignored map[string][]string) []pattern.Interest {
	all := append(withMore(Interests(p), more), inOutputs(p)...)
	all = append(
		all,
		pattern.Interest{Key: Elsewhere, Rules: []pattern.Rule{{Pattern: "**"}}, Debounce: elsewhereDebounce,
			Spare:  true,
			Ignore: []string{"**/.*", "**/node_modules"}},
	)
	for i := range all {
		for _, file := range ignored[all[i].Key] {
			all[i].Ignore = append(all[i].Ignore, pattern.Literal(file))
		}
	}
	return all
}

// fewFiles is how many files a fix names one by one.
const fewFiles = 4

// Cure returns the ignore patterns that exclude these files for a unit: the files themselves if they are few, or else
// all with the same extension in their directories.
func Cure(files []string) []string {
	var patterns []string
	for _, f := range files {
		p := pattern.Literal(f)
		if len(files) > fewFiles {
			p = pattern.Literal(path.Dir(f)) + "/*" + pattern.Literal(path.Ext(f))
		}
		if !slices.Contains(patterns, p) {
			patterns = append(patterns, p)
		}
	}
	return patterns
}

// Hit translates a watcher's hit for a unit into the engine's terms.
func Hit(p *plan.Plan, u *plan.Unit, h watch.Hit) engine.Hit {
	hit := engine.Hit{Unit: u.Name, Path: h.Path, What: h.What, Rule: h.Pattern, More: h.More}
	if h.Mixed { // they can require anything, so all of it is done
		return hit
	}
	hit.TakenUp = u.Pass != nil && h.Rule >= len(u.Reactions) && h.Rule < len(u.Reactions)+len(u.Watch)
	if h.Rule < len(u.Reactions) {
		hit.Reaction, hit.Captures = h.Rule+1, h.Captures
		if run := u.Reactions[h.Rule].Run; run != nil {
			hit.Missing = missing(p, u, *run, h)
		}
	}
	return hit
}

// rule returns the pattern of an interest's rule. One that is not in the settings has no line: see withMore.
func rule(u *plan.Unit, i int, text string) plan.Pattern {
	if i < len(u.Reactions) {
		return u.Reactions[i].When
	}
	i -= len(u.Reactions)
	if i < len(u.Watch) {
		return u.Watch[i]
	}
	var inputs []plan.Pattern
	for _, step := range u.Setup {
		inputs = append(inputs, step.Inputs...)
	}
	if i -= len(u.Watch); i >= len(inputs) {
		return plan.Pattern{Text: text}
	}
	return inputs[i]
}

// someFiles is how many of a rule's files are named.
const someFiles = 8

// Rules returns the patterns of a unit in order of precedence, with the files that affect it by each.
func Rules(p *plan.Plan, u *plan.Unit, files []watch.File) []api.RuleMatch {
	var all []api.RuleMatch
	add := func(pattern plan.Pattern, does string) {
		all = append(all, api.RuleMatch{Pattern: pattern.Text, Line: pattern.Line, Does: does})
	}
	for i, re := range u.Reactions {
		if re.Do == plan.Nothing {
			add(re.When, "nothing")
			continue
		}
		if re.Run != nil {
			add(re.When, "runs "+re.Run.String())
			continue
		}
		add(re.When, does(u, engine.Hit{Reaction: i + 1}))
	}
	for _, w := range u.Watch {
		add(w, does(u, engine.Hit{TakenUp: u.Pass != nil}))
	}
	for _, step := range u.Setup {
		for _, in := range step.Inputs {
			add(in, u.Verb()+" with its setup")
		}
	}
	for _, f := range files {
		if f.Rule >= len(all) {
			continue
		}
		r := &all[f.Rule]
		if r.Files++; len(r.Some) < someFiles {
			r.Some = append(r.Some, relative(p, f.Path))
		}
	}
	return all
}
