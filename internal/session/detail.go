package session

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"omnivigil/internal/api"
	"omnivigil/internal/plan"
	"omnivigil/internal/process/series"
	"omnivigil/internal/session/impact"
	"omnivigil/internal/session/outputs"
	"omnivigil/internal/text/format"
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
func (s *Session) Samples(_ context.Context, from int64) (api.SamplePage, error) {
	all, next, err := series.Read(s.showing.about.Logs, from)
	page := api.SamplePage{Samples: make([]api.Sample, len(all)), Next: next}
	for i, one := range all {
		page.Samples[i] = api.Sample(one)
	}
	return page, err
}

// Detail implements api.Project.
func (s *Session) Detail(_ context.Context, unit string) (api.Detail, error) {
	p := s.Plan()
	u := p.Unit(unit)
	if u == nil {
		return api.Detail{}, api.Refuse("there is no unit %q", s.clean(unit))
	}
	d := api.Detail{
		Unit:     u.Name,
		Line:     u.Line,
		Settings: s.settingsOf(u),
		Rules:    impact.Rules(p, u, s.watcherNow().Files(unit)),
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
	if seen := s.observationsOf([]string{unit}); len(seen.Units) > 0 {
		d.Observed, d.Mismatches = &seen.Units[0], seen.Mismatches
	}
	d.Sizes = s.outputs.SizesOf(unit)
	if server := s.pages.Of(unit); server != nil {
		for _, b := range server.Browsers() {
			d.Pages = append(
				d.Pages,
				api.OpenPage{
					Browser:     s.clean(b.Agent),
					Path:        s.clean(b.Path),
					Since:       b.Since,
					RefreshedAt: b.RefreshedAt,
				},
			)
		}
	}
	if s.tracer != nil {
		for _, one := range s.tracer.Processes(unit) {
			d.Processes = append(d.Processes, api.ProcessUse{
				PID:     one.PID,
				Parent:  one.Parent,
				Command: s.clean(one.Command),
				Since:   one.Since,
				CPUTime: api.Seconds(one.CPU),
				Memory:  one.Memory,
			})
		}
	}
	return d, nil
}

// settingsOf are a unit's settings in words, without the defaults.
func (s *Session) settingsOf(u *plan.Unit) []api.Setting {
	var all []api.Setting
	add := func(name, text string) {
		if text != "" {
			all = append(all, api.Setting{Name: name, Text: s.clean(text)})
		}
	}
	if u.Relay != nil {
		add("serves", u.Relay.String())
		for _, at := range u.Relay.At {
			add("at", at.Prefix+" from "+at.To+at.Root)
		}
		return all
	}
	add("run", u.Run.String())
	add("dir", u.Dir)
	add("setup", steps(u.Setup))
	add("prelude", steps(u.Prelude))
	if !u.Kind.Ends() {
		add("ready", within(u))
		if u.AfterExit == plan.Retry {
			add("after_exit", "retry, with growing pauses")
		}
	}
	if u.Pass != nil {
		add("pass", "picks up changes by itself, within "+format.Duration(u.Pass.Within))
	}
	add("stop", stopWords(u.Stop))
	add("debounce", format.Duration(u.Debounce))
	if u.Kind.Ends() && u.Overlap == plan.Abandon {
		add("overlap", "abandon: a change during a run cuts it short")
	}
	if u.Reuse {
		add("reuse", "its last good result holds while all it depends on is the same")
	}
	if u.Observe {
		add("observe", "what it does is compared with its settings")
	}
	if u.Alone {
		add("alone", "nothing else runs at the same time")
	}
	if u.Manual {
		add("start", "manual: by request only")
	}
	return all
}

func steps(of []plan.Step) string {
	lines := make([]string, len(of))
	for i, step := range of {
		lines[i] = step.Run.String()
	}
	return strings.Join(lines, "; ")
}

func within(u *plan.Unit) string {
	if u.Ready.Within == 0 {
		return u.Ready.String()
	}
	return u.Ready.String() + ", within " + format.Duration(u.Ready.Within)
}

func stopWords(stop plan.Stop) string {
	if stop.Run != nil {
		return fmt.Sprintf("%s, killed after %s", stop.Run, format.Duration(stop.Grace))
	}
	if stop.Type != "" {
		return fmt.Sprintf("typing %q, killed after %s", stop.Type, format.Duration(stop.Grace))
	}
	return fmt.Sprintf("SIG%s, killed after %s", stop.Signal, format.Duration(stop.Grace))
}
