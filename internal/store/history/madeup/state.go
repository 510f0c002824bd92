package madeup

import (
	"fmt"
	"slices"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/api/report"
	"omnivigil/internal/store/history"
)

// standing is the state of a project that is made up, at the end of a day.
type standing struct {
	units   map[string]*api.Unit
	ripples []*api.Ripple
	saves   []api.Save
	bad     bool // the last verdict
}

// stoodRun adds a run to the state.
func (s *standing) stoodRun(u Unit, run history.Run) {
	of := s.units[u.Name]
	if of == nil {
		of = &api.Unit{Name: u.Name, Kind: u.Kind, Wanted: true}
		s.units[u.Name] = of
	}
	begun, done, end := api.Running, run.State, run.Run.EndedAt
	if u.Kind == "service" {
		begun, done, end = api.Starting, api.Ready, run.Run.ReadyAt
	}
	of.State, of.Freshness, of.Run = done, api.Current, run.Run
	if done.Broken() {
		of.Freshness = api.NoCode
	}
	if cases := u.Tests; cases > 0 {
		of.Report.Counts = report.Counts{Cases: cases, Ran: cases, Passed: cases, Run: run.Run.Number}
		if done.Broken() {
			of.Report.Passed, of.Report.Failed = cases-1, 1
		}
	}
	of.Marks = append(of.Marks, api.Mark{At: run.Run.OrderedAt, State: begun, Run: run.Run.Number},
		api.Mark{At: end, State: done, Run: run.Run.Number})
}

// stoodRipple adds a save and its ripple to the state, and writes the verdicts.
func (s *standing) stoodRipple(out *history.Writer, r *api.Ripple) {
	s.ripples = append(s.ripples, r)
	s.saves = append(s.saves, api.Save{At: r.Since, Ripple: r.ID})
	out.Judged(api.PastVerdict{At: r.Since, Verdict: api.Verdict{
		Word: api.VerdictUpdating, Text: fmt.Sprintf("%s saved", r.Title)}})
	v := api.PastVerdict{At: r.RestAt, Verdict: s.verdict()}
	if bad := v.Verdict.Word.Bad(); bad != s.bad {
		s.bad, v.Turned = bad, map[bool]api.Turn{true: api.TurnedBad, false: api.TurnedGood}[bad]
	}
	out.Judged(v)
}

// verdict is that of the units.
func (s *standing) verdict() api.Verdict {
	for _, u := range s.units {
		if u.State.Broken() {
			return api.Verdict{Word: api.VerdictBroken, Text: u.Name + " failed: exit 1"}
		}
	}
	return api.Verdict{Word: api.VerdictCurrent, Text: fmt.Sprintf("%d units run what was saved", len(s.units))}
}

// snapshot is the state at the end of a session.
func (s *standing) snapshot(p Project, session history.Session, ended time.Time) *api.Snapshot {
	snap := &api.Snapshot{
		At: ended, Verdict: s.verdict(), Ripples: s.ripples, Saves: s.saves, Uses: map[string]api.Use{},
		Project: api.About{Name: p.Name, Session: session.Name, Since: session.Began},
		Status:  api.Status{Ended: true},
	}
	for _, u := range p.Units {
		if of := s.units[u.Name]; of != nil {
			slices.SortStableFunc(of.Marks, func(a, b api.Mark) int { return a.At.Compare(b.At) })
			snap.Units = append(snap.Units, of)
		}
	}
	return snap
}
