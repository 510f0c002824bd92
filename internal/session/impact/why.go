package impact

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"omnivigil/internal/api"
	"omnivigil/internal/engine"
	"omnivigil/internal/engine/dryrun"
	"omnivigil/internal/engine/explain"
	"omnivigil/internal/plan"
	"omnivigil/internal/text/format"
	"omnivigil/internal/text/suggest"
	"omnivigil/internal/watch"
	"omnivigil/internal/watch/pattern"
)

// Report is what a save of one path would set off if everything were current.
type Report struct {
	Path     string   // relative to the project's directory
	Settings bool     // it is the settings file, or an env file
	Acts     []Act    // the units that the path affects, in the order of the file
	Order    []Step   // everything that would run, in order
	Kept     []Kept   // units that their own rules exclude
	Near     *Near    // if nothing acts: the rule that almost matches
	Noise    bool     // such files never count
	Meant    string   // if there is no such file: the unit whose name is similar
	Makers   []string // units that declare it as an output

	Hits []engine.Hit // Acts for the engine

	typed bool // the settings were typed as a command
}

// Impact converts the report for faces.
func (r Report) Impact() api.Impact {
	f := api.Impact{Path: r.Path, Makers: r.Makers, Text: r.Lines()}
	for _, a := range r.Acts {
		f.Acts = append(f.Acts, api.Act{Unit: a.Unit, Rule: a.Pattern.Text, Does: a.Does})
	}
	for _, s := range r.Order {
		f.Order = append(f.Order, api.Step(s))
	}
	return f
}

// Act is a unit that a path affects.
type Act struct {
	Unit     string
	Pattern  plan.Pattern
	Captures map[string]string
	Does     string // "restarts", "reruns", "is sent HUP", or "runs COMMAND"
}

// Step is what one unit does as part of an impact.
type Step struct{ Unit, Does, Because string }

// Kept is a unit with a rule for the path and something that excludes it.
type Kept struct {
	Unit     string
	By       plan.Pattern // its own rule, or
	Excluded string       // that of version control, with its location
}

// Near is a rule that almost matches.
type Near struct {
	Unit    string
	Pattern plan.Pattern
}

// Why returns what a save of the path would set off. The path is absolute, or relative to the project's directory.
func Why(p *plan.Plan, path string) Report { return WhyWith(p, nil, path) }

// WhyWith is Why with more files that affect units, because the units were seen to read them.
func WhyWith(p *plan.Plan, more map[string][]string, path string) Report {
	interests := withMore(Interests(p), more)
	r := Report{Path: relative(p, path), typed: p.Elsewhere()}
	for _, a := range watch.Explain(p.Root, interests, path) {
		r.Noise = r.Noise || a.Noise
		u := p.Unit(a.Key)
		switch {
		case a.Key == Settings:
			r.Settings = a.Hears
		case a.Hears:
			h := Hit(
				p,
				u,
				watch.Hit{
					Key:      a.Key,
					Path:     r.Path,
					What:     "written",
					Rule:     a.Rule,
					Pattern:  a.Pattern,
					Captures: a.Captures,
				},
			)
			r.Hits = append(r.Hits, h)
			r.Acts = append(r.Acts, Act{u.Name, rule(u, a.Rule, a.Pattern), a.Captures, does(u, h)})
		case a.Rule >= 0 && !a.Noise:
			r.Kept = append(r.Kept, keptBy(u, a))
		}
	}
	r.Order, r.Makers = foresee(p, r.Hits), Makers(p, r.Path)
	if len(r.Acts) == 0 && len(r.Kept) == 0 && !r.Settings && !r.Noise {
		r.Near = nearest(p, interests, path)
	}
	bare := !strings.ContainsAny(r.Path, "./")
	if _, err := os.Stat(filepath.Join(p.Root, r.Path)); bare && err != nil && len(r.Acts) == 0 {
		r.Meant = suggest.Name(r.Path, p.UnitNames())
	}
	return r
}

func relative(p *plan.Plan, path string) string {
	if filepath.IsAbs(path) {
		if rel, err := filepath.Rel(p.Root, path); err == nil {
			path = rel
		}
	}
	return filepath.ToSlash(filepath.Clean(path))
}

// keptBy returns what excludes a path: an ignore pattern, version control, or a reaction that does nothing.
func keptBy(u *plan.Unit, a watch.Answer) Kept {
	for _, i := range slices.Concat(u.Ignore, u.Outputs) {
		if i.Text == a.Ignored {
			return Kept{Unit: u.Name, By: i}
		}
	}
	if a.Excluded != "" {
		return Kept{Unit: u.Name, Excluded: a.Excluded}
	}
	return Kept{Unit: u.Name, By: rule(u, a.Rule, a.Pattern)}
}

func nearest(p *plan.Plan, interests []pattern.Interest, path string) *Near {
	key, pattern := watch.Nearest(p.Root, interests[1:], path)
	if key == "" {
		return nil
	}
	u := p.Unit(key)
	for _, in := range interests {
		if in.Key != key {
			continue
		}
		for i, r := range in.Rules {
			if r.Pattern == pattern {
				return &Near{key, rule(u, i, pattern)}
			}
		}
	}
	return nil
}

func does(u *plan.Unit, h engine.Hit) string {
	if h.Reaction > 0 {
		re := u.Reactions[h.Reaction-1]
		switch {
		case re.Do == plan.SendSignal:
			return "is sent " + re.Signal
		case re.Do == plan.RefreshPage:
			return "has its pages reloaded"
		case re.Do == plan.SwapStyle:
			return "has it swapped in its pages"
		case re.Run != nil:
			return "runs " + re.Run.With(h.Captures).String()
		}
	}
	switch {
	case u.Relay != nil:
		return "refreshes its pages"
	case h.TakenUp:
		return takesUp
	}
	return u.Verb()
}

// takesUp is what a unit does that a change does not restart.
const takesUp = "picks it up by itself"

// foresee computes what a save would set off, in order.
func foresee(p *plan.Plan, all []engine.Hit) []Step {
	hits := slices.DeleteFunc(
		slices.Clone(all),
		func(h engine.Hit) bool { return p.Unit(h.Unit).ForPages(h.Reaction) },
	)
	if len(hits) == 0 {
		return nil
	}
	var steps []Step
	for _, o := range dryrun.Save(p, hits) {
		switch o := o.(type) {
		case engine.Tell:
			switch o.Kind {
			case engine.FactPassStarted:
				steps = append(steps, Step{o.Unit, takesUp, hits[0].Path + " changed"})
			case engine.FactRunStarted:
				does := p.Unit(o.Unit).Verb()
				if o.Command != "" {
					does = "runs " + o.Command
				}
				steps = append(steps, Step{o.Unit, does, explain.Because(o.Fact)})
			}
		case engine.SendSignal:
			steps = append(steps, Step{o.Unit, "is sent " + o.Name, hits[0].Path + " changed"})
		}
	}
	return steps
}

// Lines returns the report as text.
func (r Report) Lines() []string {
	lines := []string{r.Path}
	add := func(format string, args ...any) { lines = append(lines, "  "+fmt.Sprintf(format, args...)) }
	switch {
	case r.Settings:
		add("the settings are reloaded, and only the units that they change act")
	case r.Noise:
		add("nothing: temporary files of editors never count")
		return lines
	case len(r.Acts) == 0:
		add("nothing would act")
	}
	if r.Meant != "" {
		add("there is no such file; did you mean the unit %s?", r.Meant)
	}
	if len(r.Makers) > 0 {
		add("it is an output of %s", format.List(r.Makers))
	}
	for _, a := range r.Acts {
		if a.Pattern.Line == 0 && !r.typed {
			add("%s %s: it was seen to read it", a.Unit, a.Does)
			continue
		}
		add("%s %s: it matches %s%s", a.Unit, a.Does, r.place(a.Pattern), taken(a.Captures))
	}
	if len(r.Order) > 1 {
		add("in this order:")
		for i, s := range r.Order {
			add("  %d. %s %s: %s", i+1, s.Unit, s.Does, s.Because)
		}
	}
	for _, k := range r.Kept {
		if k.Excluded != "" {
			add("%s: version control ignores it, by %s; gitignore = false would let it count", k.Unit, k.Excluded)
		} else {
			add("%s: ignored by %s", k.Unit, r.place(k.By))
		}
	}
	if r.Near != nil {
		add("no rule matches it; nearest is %s of %s", r.place(r.Near.Pattern), r.Near.Unit)
	} else if len(r.Acts) == 0 && len(r.Kept) == 0 && !r.Settings {
		add("no rule matches it")
	}
	return lines
}

// place is a pattern with its location in the settings, if a user has written them.
func (r Report) place(p plan.Pattern) string {
	if r.typed {
		return fmt.Sprintf("%q", p.Text)
	}
	return fmt.Sprintf("%q (%s line %d)", p.Text, plan.FileName, p.Line)
}

func taken(captures map[string]string) string {
	var parts []string
	for _, name := range slices.Sorted(maps.Keys(captures)) {
		parts = append(parts, name+" = "+captures[name])
	}
	if len(parts) == 0 {
		return ""
	}
	return ", " + strings.Join(parts, ", ")
}

// Cost is what watching for a project costs.
type Cost struct {
	watch.Survey
	Idle  []IdleRule
	Above bool // some patterns lead out of the project's directory
}

// IdleRule is a rule that no file matches now.
type IdleRule struct {
	Near
	Excluded bool // it matches only ignored files
}

// Look watches for the plan for a moment and returns what that costs, and which rules match nothing.
func Look(p *plan.Plan) (Cost, error) {
	survey, err := watch.Look(p.Root, Interests(p))
	if err != nil {
		return Cost{}, err
	}
	c := Cost{Survey: survey}
	for _, u := range p.Units {
		c.Above = c.Above ||
			slices.ContainsFunc(u.Watch, func(w plan.Pattern) bool { return strings.HasPrefix(w.Text, "../") })
		for _, i := range survey.Unmatched[u.Name] {
			c.Idle = append(c.Idle, IdleRule{Near{u.Name, rule(u, i, "")}, slices.Contains(survey.Excluded[u.Name], i)})
		}
	}
	return c, nil
}

// Idle returns the watch patterns and reactions of units that no file matches, ignored or not, with one walk through
// the project's directories. Such a rule is often a typing error.
func Idle(p *plan.Plan) []Near {
	var all []Near
	var patterns []string
	for _, u := range p.Units {
		for _, re := range u.Reactions {
			all, patterns = append(all, Near{u.Name, re.When}), append(patterns, re.When.Text)
		}
		for _, w := range u.Watch {
			all, patterns = append(all, Near{u.Name, w}), append(patterns, w.Text)
		}
	}
	var idle []Near
	for i, matched := range pattern.MatchAny(p.Root, patterns) {
		if !matched {
			idle = append(idle, all[i])
		}
	}
	return idle
}
