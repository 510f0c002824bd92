// Package explanation puts together why a unit is in its state: how it failed, the failed tests and findings with the
// lines of their files, the output that tells the reason, what has changed since the last good run, what the failure
// blocks, and what to do. It only reads what others know; start reading at Sources.Of.
package explanation

import (
	"path/filepath"
	"slices"

	"omnivigil/internal/api"
	"omnivigil/internal/api/changes"
	"omnivigil/internal/engine"
	"omnivigil/internal/engine/explain"
	"omnivigil/internal/plan"
	"omnivigil/internal/results/source"
	"omnivigil/internal/session/outcomes"
	"omnivigil/internal/text/location"
)

// Sources are what an explanation is made of.
type Sources struct {
	Plan    *plan.Plan
	Engine  *engine.Snapshot
	Shown   *api.Snapshot // the same moment, as faces see it
	Results *outcomes.Results
	// Lines returns the lines of a run's output that most likely tell why it failed, at most so many.
	Lines func(unit string, run, most int) ([]api.Line, error)
	// Changes returns what has changed since a unit last ran well.
	Changes func(u *api.Unit) changes.Changes
	// Earlier returns the last failure of a unit before it last ran well; nil: none is known.
	Earlier func(unit string) *api.Earlier
	Clean   func(string) string // makes text of others safe to show
}

// Limits of an explanation.
const (
	maxExcerpts = 4
	aroundLine  = 2 // lines of a file before and after a location
	maxLines    = 8
	maxChanges  = 5 // files
)

// Of explains a unit. It reads files.
func (s Sources) Of(u *engine.Unit) (api.Explanation, error) {
	out := api.Explanation{Unit: u.Name, Account: s.Shown.Account(s.Shown.Unit(u.Name))}
	for _, d := range s.Shown.Doubts {
		if d.Unit == u.Name {
			out.Doubts = append(out.Doubts, d)
		}
	}
	culprit := s.culprit(u)
	if culprit == nil {
		return out, nil
	}
	if culprit == u {
		out.Account = s.Shown.Standing(s.Shown.Unit(u.Name))
	}
	f, err := s.failure(culprit)
	out.Failure = &f
	return out, err
}

// culprit returns the broken unit that is the reason for a unit's state, perhaps itself; nil: there is none.
func (s Sources) culprit(u *engine.Unit) *engine.Unit {
	for range s.Engine.Units { // a chain is no longer than that
		if u == nil || u.State.Broken() {
			return u
		}
		next := u.Wait.On
		if u.Stale != nil {
			next = u.Stale.Root
		}
		u = s.Engine.Unit(next)
	}
	return nil
}

// failure describes how a broken unit failed.
func (s Sources) failure(u *engine.Unit) (api.Failure, error) {
	lines, err := s.Lines(u.Name, u.Run.Number, maxLines)
	f := api.Failure{
		Unit:     u.Name,
		Run:      u.Run.Number,
		State:    api.State(u.State.String()),
		How:      s.Clean(explain.HowFailed(u)),
		At:       u.Run.EndedAt.Wall,
		Lines:    lines,
		LastGood: lastGood(u),
		Changed:  make([]string, 0, len(u.Suspects)),
	}
	f.Earlier = s.Earlier(u.Name)
	if shown := s.Shown.Unit(u.Name); shown != nil {
		f.Changes = s.Changes(shown).Files
		f.Changes = f.Changes[:min(len(f.Changes), maxChanges)]
	}
	for _, path := range u.Suspects {
		f.Changed = append(f.Changed, s.Clean(path))
	}
	for _, other := range s.Engine.Units {
		if other != u && s.culprit(other) == u {
			f.Blocks = append(f.Blocks, api.Blocked{
				Unit: other.Name, State: api.State(other.State.String()), Freshness: api.Freshness(other.Freshness.String()),
			})
		}
	}
	all := s.excerpts(u)
	f.Excerpts = all[:min(len(all), maxExcerpts)]
	f.More = len(all) - len(f.Excerpts)
	for i := range f.Excerpts {
		f.Excerpts[i].Source = s.around(f.Excerpts[i].Location)
	}
	f.Remedies = s.remedies(u, f.Excerpts)
	return f, err
}

// lastGood returns the last run that was ready or done before the unit broke; nil: none is known.
func lastGood(u *engine.Unit) *api.LastGood {
	for _, m := range slices.Backward(u.Marks) {
		if m.State == engine.Ready || m.State == engine.Done {
			return &api.LastGood{Run: m.Run, At: m.At.Wall}
		}
	}
	return nil
}

// excerpts returns the unit's failed tests, newly failing ones first, and the findings of its newest run: the errors
// or, if there are none, the warnings. Their files are not read.
func (s Sources) excerpts(u *engine.Unit) []api.Excerpt {
	all := []api.Excerpt{}
	units := []string{u.Name}
	failed, err := s.Results.Cases(units, api.ResultQuery{Only: "failing", Count: api.MaxLines})
	if err != nil {
		return all
	}
	for _, c := range failed.Cases {
		all = append(all, api.Excerpt{
			Test: c.Title(), Change: c.Change, Message: c.Message, Want: c.Want, Got: c.Got, Location: c.Location,
		})
	}
	for _, severity := range []string{"error", "warning"} {
		found, err := s.Results.Findings(units, api.ResultQuery{Only: severity, Count: api.MaxLines})
		if err != nil {
			return all
		}
		for _, f := range found.Findings {
			if f.Run == u.Run.Number {
				all = append(all, api.Excerpt{
					Severity: f.Severity, Change: f.Change, Message: f.Message, Location: f.Location,
				})
			}
		}
		if len(all) > 0 {
			break
		}
	}
	return all
}

// around returns the lines around a location. Files outside the project's directory and env files are not read.
func (s Sources) around(at location.Location) []api.SourceLine {
	rel, err := filepath.Rel(s.Plan.Root, at.File)
	if err != nil || !filepath.IsAbs(at.File) || !filepath.IsLocal(rel) || s.isEnvFile(at.File) {
		return nil
	}
	first, lines := source.Around(at.File, at.Line, aroundLine)
	var out []api.SourceLine
	for i, text := range lines {
		out = append(out, api.SourceLine{Number: first + i, Text: s.Clean(text)})
	}
	return out
}

func (s Sources) isEnvFile(path string) bool {
	is := func(name string) bool { return filepath.Join(s.Plan.Root, name) == path || name == path }
	return slices.ContainsFunc(s.Plan.EnvFiles, is) ||
		slices.ContainsFunc(s.Plan.Units, func(u *plan.Unit) bool { return slices.ContainsFunc(u.EnvFiles, is) })
}
