package session

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"

	"omnivigil/internal/api"
	"omnivigil/internal/session/explanation"
	"omnivigil/internal/session/impact"
	"omnivigil/internal/session/outputs"
	"omnivigil/internal/text/suggest"
)

// volume is how many bytes units have written.
type volume struct{ of sync.Map } // of *atomic.Int64, by the unit's name

func (s *Session) wrote(unit string, n int) {
	count, known := s.volume.of.Load(unit)
	if !known {
		count, _ = s.volume.of.LoadOrStore(unit, new(atomic.Int64))
	}
	count.(*atomic.Int64).Add(int64(n))
}

func (s *Session) written(unit string) int64 {
	if count, known := s.volume.of.Load(unit); known {
		return count.(*atomic.Int64).Load()
	}
	return 0
}

// paths are the files that affect a unit.
func (s *Session) paths(unit string) []string {
	files := s.watcherNow().Files(unit)
	paths := make([]string, len(files))
	for i, f := range files {
		paths[i] = f.Path
	}
	return paths
}

// inputs are the files that a unit's result depends on: those that affect it, and those that it was seen to read if it
// is always observed.
func (s *Session) inputs(unit string) []string {
	files := s.paths(unit)
	if u := s.Plan().Unit(unit); u != nil && u.Observe {
		for _, name := range s.observations.Reads(u) {
			files = append(files, filepath.Join(s.root, filepath.FromSlash(name)))
		}
		slices.Sort(files)
		files = slices.Compact(files)
	}
	return files
}

// Samples implements api.Project.
func (s *Session) Samples(ctx context.Context, from int64) (api.SamplePage, error) {
	return s.reading.Samples(ctx, s.showing.about.Session, from)
}

// Detail implements api.Project.
func (s *Session) Detail(_ context.Context, unit string) (api.Detail, error) {
	p := s.Plan()
	u := p.Unit(unit)
	if u == nil {
		return api.Detail{}, s.noUnit(unit)
	}
	d := api.Detail{
		Unit: u.Name, File: s.clean(u.File), Line: u.Line, Settings: s.convert().Settings(u),
		Rules: impact.Rules(p, u, s.watcherNow().Files(unit)),
	}
	for i := range d.Rules {
		r := &d.Rules[i]
		r.Pattern, r.Does, r.Some = s.clean(r.Pattern), s.clean(r.Does), s.convert().All(r.Some)
	}
	for _, pattern := range slices.Concat(u.Ignore, u.Outputs) {
		d.Ignored = append(d.Ignored, s.clean(pattern.Text))
	}
	for _, v := range p.Environment(u, os.LookupEnv) {
		shown := api.Variable{Name: s.clean(v.Name), From: s.clean(v.File), Secret: p.IsSecret(v.Name)}
		if shown.From == "" {
			shown.From = "settings"
		}
		if !shown.Secret {
			shown.Value = s.clean(v.Value)
		}
		d.Variables = append(d.Variables, shown)
	}
	for _, made := range outputs.List(p, u).Made {
		made.Pattern = s.clean(made.Pattern)
		d.Outputs = append(d.Outputs, made)
	}
	if seen := s.convert().Observations(s.observations.Compare([]string{unit})); len(seen.Units) > 0 {
		d.Observed, d.Mismatches = &seen.Units[0], seen.Mismatches
	}
	d.Sizes = s.outputs.SizesOf(unit)
	if server := s.pages.Of(unit); server != nil {
		for _, b := range server.Browsers() {
			d.Pages = append(d.Pages, api.OpenPage{
				Browser: s.clean(b.Agent), Path: s.clean(b.Path), Since: b.Since, RefreshedAt: b.RefreshedAt,
			})
		}
	}
	if s.tracer != nil {
		for _, one := range s.tracer.Processes(unit) {
			d.Processes = append(d.Processes, api.ProcessUse{
				PID: one.PID, Parent: one.Parent, Command: s.clean(one.Command), Since: one.Since,
				CPUTime: api.Seconds(one.CPU), Memory: one.Memory,
			})
		}
	}
	return d, nil
}

// noUnit refuses the name of a unit that does not exist.
func (s *Session) noUnit(name string) error {
	return api.Refuse("there is no unit %q; %s", s.clean(name), suggest.Hint(name, s.Plan().UnitNames()))
}

// Explain implements api.Project.
func (s *Session) Explain(ctx context.Context, unit string) (api.Explanation, error) {
	shown, of := s.shownAndOf()
	u := of.Unit(unit)
	if u == nil || shown.Unit(unit) == nil {
		return api.Explanation{}, s.noUnit(unit)
	}
	return explanation.Sources{
		Plan: s.Plan(), Engine: of, Shown: shown, Results: s.outcomes, Clean: s.clean, Earlier: s.reading.Earlier,
		Changes: s.sinceGood,
		Lines: func(unit string, run, most int) ([]api.Line, error) {
			page, err := s.Lines(ctx, api.LineQuery{Unit: unit, Run: run, Why: true, Count: most})
			return page.Lines, err
		},
	}.Of(u)
}
