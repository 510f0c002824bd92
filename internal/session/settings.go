package session

import (
	"path/filepath"
	"slices"
	"time"

	"omnivigil/internal/engine"
	"omnivigil/internal/plan"
	"omnivigil/internal/watch"
)

// settingsKey is the watcher's interest in the settings file itself. No unit can
// have that name.
const settingsKey = ""

// settingsLull is long enough for an editor's second write.
const settingsLull = 100 * time.Millisecond

// Interests returns what a project's watcher has to look for: the settings file,
// and for each unit its reactions and then its watch patterns, in that order.
func Interests(p *plan.Plan) []watch.Interest {
	all := []watch.Interest{{
		Key: settingsKey, Lull: settingsLull,
		Rules: []watch.Rule{{Pattern: watch.Literal(filepath.Base(p.File))}},
	}}
	for _, u := range p.Units {
		in := watch.Interest{Key: u.Name, Lull: u.Lull}
		for _, re := range u.Reactions {
			in.Rules = append(in.Rules, watch.Rule{Pattern: re.When.Text, Out: re.Do == plan.Nothing})
		}
		for _, w := range u.Watch {
			in.Rules = append(in.Rules, watch.Rule{Pattern: w.Text})
		}
		for _, i := range u.Ignore {
			in.Ignore = append(in.Ignore, i.Text)
		}
		if len(in.Rules) > 0 {
			all = append(all, in)
		}
	}
	return all
}

// Hit translates what the watcher heard for a unit into the engine's terms.
func Hit(u *plan.Unit, h watch.Hit) engine.Hit {
	hit := engine.Hit{Unit: u.Name, Path: h.Path, What: h.What, Rule: h.Pattern}
	if h.Rule < len(u.Reactions) {
		hit.Reaction, hit.Captures = h.Rule+1, h.Captures
	}
	return hit
}

func withoutSettings(keys []string) []string {
	return slices.DeleteFunc(slices.Clone(keys), func(k string) bool { return k == settingsKey })
}

// readSettings reads the edited file. A broken one changes nothing; a good one is
// adopted once its files are watched, so that no write to them is missed.
func (s *Session) readSettings(now time.Time) {
	edited, err := plan.Read(s.plan.File)
	if err != nil {
		s.step(now, engine.PlanBroken{Problem: err.Error()})
		return
	}
	s.edited = edited
	s.watcher.SetInterests(Interests(edited))
}

func (s *Session) adopt(now time.Time) {
	if s.edited == nil {
		return
	}
	s.plan, s.edited = s.edited, nil
	s.shownPlan.Store(s.plan)
	s.step(now, engine.NewPlan{Plan: s.plan})
}
