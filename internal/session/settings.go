package session

import (
	"context"
	"path/filepath"
	"strings"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/engine"
	"omnivigil/internal/output/logbook"
	"omnivigil/internal/plan"
	"omnivigil/internal/plan/edit"
	"omnivigil/internal/plan/settings"
	"omnivigil/internal/session/impact"
	"omnivigil/internal/session/sharing"
	"omnivigil/internal/store/consent"
	"omnivigil/internal/watch/pattern"
)

// readSettings reads the edited settings. Invalid ones change nothing, except that an invalid member keeps those that
// it had; valid ones are adopted when their files are watched, so that no write to them is missed.
func (l *loop) readSettings(now time.Time, burst int) {
	before := l.plan
	if l.edited != nil {
		before = l.edited
	}
	edited, err := settings.ReadAgain(before)
	if err != nil {
		l.edited = nil
		problem := strings.ReplaceAll(err.Error(), l.plan.Root+string(filepath.Separator), "")
		l.step(now, engine.PlanBroken{Problem: problem, Burst: burst})
		return
	}
	edited, waits, err := consent.In(l.ownFolder).Agreed(before, edited)
	if err != nil {
		l.edited = nil
		l.step(now, engine.PlanBroken{Problem: err.Error(), Burst: burst})
		return
	}
	l.edited, l.burst, l.problem = edited, burst, strings.Join(append(waits, edited.MemberProblems()...), "\n")
	l.watchFor(edited)
}

// watchFor sets the interests of a plan's units.
func (l *loop) watchFor(p *plan.Plan) {
	l.edits++
	interests := impact.InterestsOf(p, l.observations.Inputs(p), l.ignored)
	if own, err := filepath.Rel(l.root, l.ownFolder); err == nil && l.ownFolder != "" && filepath.IsLocal(own) {
		for i := range interests { // what it writes itself is not a change
			interests[i].Ignore = append(interests[i].Ignore, pattern.Literal(filepath.ToSlash(own))+"/**")
		}
	}
	l.watcher.SetInterests(interests, l.edits)
}

// watchForNewest is watchFor for the newest valid settings, even if they are not yet in use.
func (l *loop) watchForNewest() {
	if l.edited != nil {
		l.watchFor(l.edited)
	} else {
		l.watchFor(l.plan)
	}
}

func (l *loop) adopt(now time.Time) {
	if l.edited == nil {
		return
	}
	before := l.plan
	l.plan, l.edited = sharing.Kept(before, l.edited, l.Note), nil
	l.hide(l.plan)
	l.book.SetLimits(logbook.Limits(l.plan.Logs))
	l.shownPlan.Store(l.plan)
	l.trackers.Adopt(l.plan)
	l.step(now, engine.NewPlan{Plan: l.plan, Burst: l.burst, Problem: l.problem})
	l.observations.CompareAnew(l.plan)
	for _, text := range consent.News(before, l.plan) {
		l.Note("new in the settings: " + text)
	}
	if l.adopted != nil {
		l.adopted(l.plan)
	}
}

// writeCures writes into the settings file that units ignore the files of a loop.
func (s *Session) writeCures(units []string) error {
	if s.Plan().Elsewhere() {
		return api.Refuse("there is no settings file to write to; add --ignore to the command")
	}
	for _, unit := range units {
		u := s.state().Unit(unit)
		if u == nil || u.Loop == nil {
			return api.Refuse("%s is not in a loop", unit)
		}
		if err := edit.Ignore(s.Plan(), unit, impact.Cure(u.Loop.Files)); err != nil {
			return api.Refuse("%s", s.clean(err.Error()))
		}
	}
	return nil
}

// Why implements api.Project, for the settings in use.
func (s *Session) Why(_ context.Context, path string) (api.Impact, error) {
	p := s.Plan()
	report := impact.WhyWith(p, s.observations.Inputs(p), path)
	f := s.impactOf(report)
	if f.Path == report.Path { // otherwise the name is not safe to show, and no file has it
		s.observations.AddReaders(&f)
	}
	return f, nil
}

// impactOf converts an impact for faces.
func (s *Session) impactOf(r impact.Report) api.Impact {
	out := r.Impact()
	for _, a := range out.Acts {
		if u := s.state().Unit(a.Unit); u != nil && !u.Wanted && (u.State == engine.Idle || u.State == engine.Stopped) {
			is := "not started"
			if u.State == engine.Stopped {
				is = "stopped"
			}
			out.NotStarted = append(out.NotStarted, a.Unit)
			out.Text = append(out.Text, "  "+a.Unit+" is "+is+": it does not act until it is started")
		}
	}
	out.Path, out.Text = s.clean(out.Path), s.convert().All(out.Text)
	for i := range out.Acts {
		out.Acts[i].Rule, out.Acts[i].Does = s.clean(out.Acts[i].Rule), s.clean(out.Acts[i].Does)
	}
	for i := range out.Order {
		out.Order[i].Does, out.Order[i].Because = s.clean(out.Order[i].Does), s.clean(out.Order[i].Because)
	}
	return out
}
