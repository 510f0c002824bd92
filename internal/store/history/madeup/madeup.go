// Package madeup makes up histories: weeks or years of work on a project, for the demo and for measurements. What
// happens depends only on the seed. Start reading at Project.Write.
package madeup

import (
	"fmt"
	"math"
	"math/rand/v2"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/store/history"
)

// Project is a project whose history is made up.
type Project struct {
	Name  string
	Units []Unit
	Days  int // of work, with a session each; on weekends nobody works
	Saves int // a day
	Until time.Time
	Seed  uint64
	// Loads are the phases a day in which other programs load the machine, for some ten saves each.
	Loads int
}

// Unit is a unit of the project.
type Unit struct {
	Name, Kind string
	Took       time.Duration // the median of its durations
	Often      float64       // the share of saves that run it
	Fails      float64       // the share of its runs that fail because of what was saved
	File       string        // that is saved when it runs
	Tests      int           // how many it has, each of which takes an equal share of its duration
	Names      []string      // of the first tests; others have numbers
	Memory     int64         // resident bytes, of a service
	Change     Change
	Flaky      string // a test that fails now and then, mostly under load
}

// Change is something that happens to a unit on a day, counted from 0.
type Change struct {
	Day   int
	Times float64 // its duration from then on, compared with before; 0: the same
	Grows int64   // bytes an hour that a service leaks from then on
	Test  string  // only this test becomes slower; empty: the unit
}

const (
	deviation  = 0.15 // of the logarithm of a duration
	correlated = 0.3  // of a unit's consecutive durations
	workday    = 8*time.Hour + 30*time.Minute
	sampled    = 2 * time.Minute // between two samples of a service
)

// Write writes the history to a directory, day by day, and returns what was reported while it was written. It blocks
// until all is written.
func (p Project) Write(dir string, limits history.Limits) (trends []history.Trend, err error) {
	random := rand.New(rand.NewPCG(p.Seed, 1))
	made := &making{Project: p, Rand: random, errors: map[string]float64{}, failing: map[string]bool{},
		mended: map[string]bool{}}
	first := p.firstDay()
	for n := range p.Days {
		day := first.AddDate(0, 0, n)
		if day.Weekday() == time.Saturday || day.Weekday() == time.Sunday {
			continue
		}
		began := day.Add(9 * time.Hour)
		session := history.Session{Name: began.Format("20060102-150405.000"), Began: began}
		out := history.New(dir, session, limits,
			func(problem string) { err = fmt.Errorf("write a made-up history: %s", problem) },
			func(t history.Trend) { trends = append(trends, t) })
		made.day(out, n, began)
		out.Stood(made.snapshot(p, session, began.Add(workday)))
		out.CloseAt(began.Add(workday))
		if err != nil {
			return trends, err
		}
	}
	return trends, nil
}

// firstDay is the beginning of the first day.
func (p Project) firstDay() time.Time {
	y, m, d := p.Until.Date()
	return time.Date(y, m, d-p.Days, 0, 0, 0, 0, p.Until.Location())
}

// making is a history that is being made up.
type making struct {
	Project
	*rand.Rand
	errors  map[string]float64 // by unit, the deviation of its last duration
	failing map[string]bool    // units whose last run failed because of what was saved
	mended  map[string]bool    // units whose next run has other files, because the last one failed
	commits int
	phase   int     // saves that are left of a phase of load
	factor  float64 // of it
	runs    map[string]int
	ripple  int
	standing
}

// day makes up a day.
func (m *making) day(out *history.Writer, n int, began time.Time) {
	m.runs, m.ripple, m.standing = map[string]int{}, 0, standing{units: map[string]*api.Unit{}}
	m.sample(out, n, began)     // a run is written when it has ended
	for _, u := range m.Units { // the project starts
		m.ran(out, n, u, began, "the project starts", false)
	}
	for save := range m.Saves {
		at := began.Add(
			time.Minute + time.Duration(float64(workday-2*time.Minute)*(float64(save)+m.Float64())/float64(m.Saves)),
		)
		if m.phase == 0 && m.Float64() < float64(m.Loads)/float64(m.Saves) {
			m.phase, m.factor = 5+m.IntN(15), 1.2+0.6*m.Float64()
		}
		if m.IntN(12) == 0 {
			m.commits++
		}
		m.save(out, n, at)
		m.phase = max(m.phase-1, 0)
	}
}

// save makes up a save and what it sets off.
func (m *making) save(out *history.Writer, n int, at time.Time) {
	m.ripple++
	r := api.Ripple{ID: m.ripple, Cause: api.Cause{Kind: "change"}, Since: at, RestAt: at.Add(200 * time.Millisecond),
		Outcome: api.EndedCurrent}
	for _, u := range m.Units {
		if m.Float64() >= u.Often {
			continue
		}
		run := m.ran(out, n, u, at.Add(150*time.Millisecond), u.File+" changed", true)
		if r.Paths = append(r.Paths, u.File); run.State == api.Failed {
			r.Outcome, r.Detail = api.EndedBroken, u.Name+" failed"
		}
		r.Runs = append(r.Runs, &api.RunRef{Unit: u.Name, Number: run.Run.Number})
		if run.Run.EndedAt.After(r.RestAt) && run.Kind != "service" {
			r.RestAt = run.Run.EndedAt
		}
	}
	if len(r.Runs) == 0 {
		return
	}
	if r.Title = r.Paths[0]; len(r.Paths) > 1 {
		r.Title = fmt.Sprintf("%s and %d more", r.Paths[0], len(r.Paths)-1)
	}
	m.stoodRipple(out, &r)
	out.Rested(history.Ripple{Ripple: r, Loaded: m.phase > 0, Revision: m.revision()})
}

// ran makes up a run.
func (m *making) ran(out *history.Writer, n int, u Unit, at time.Time, because string, saved bool) history.Run {
	e := correlated*m.errors[u.Name] + math.Sqrt(1-correlated*correlated)*deviation*m.NormFloat64()
	m.errors[u.Name] = e
	took := float64(u.Took) * math.Exp(e)
	if u.Change.Times > 0 && u.Change.Test == "" && n >= u.Change.Day {
		took *= u.Change.Times
	}
	if m.phase > 0 {
		took *= m.factor
	}
	m.runs[u.Name]++
	run := history.Run{
		Unit: u.Name, Kind: u.Kind, State: api.Done, Took: time.Duration(took), Loaded: m.phase > 0, Output: 400,
		Findings: -1,
		Revision: m.revision(),
		Run: api.Run{Number: m.runs[u.Name], Because: because, OrderedAt: at, EndedAt: at.Add(time.Duration(took)),
			Ripples: []int{m.ripple}, Exit: &api.Exit{Text: "exit 0"}, Spans: []api.Span{
				{Phase: "debounce", From: at.Add(-150 * time.Millisecond), To: at},
				{Phase: "running", From: at, To: at.Add(time.Duration(took))},
			}},
	}
	if u.Kind == "service" {
		run.State, run.Run.ReadyAt, run.Run.EndedAt = api.Stopped, run.Run.EndedAt, at.Add(10*time.Minute)
		if m.runs[u.Name] == 1 {
			run.Run.EndedAt = at.Add(workday)
		}
	}
	// A mistake is corrected with the next save, mostly.
	m.failing[u.Name] = saved && u.Kind != "service" && (m.Float64() < u.Fails || m.failing[u.Name] && m.Float64() < 0.4)
	fails := m.failing[u.Name]
	if u.Tests > 0 && m.tested(out, n, u, run, fails) {
		fails = true
	}
	if fails {
		run.State, run.Took, run.Run.Exit = api.Failed, 0, &api.Exit{Code: 1, Text: "exit 1"}
	}
	m.stoodRun(u, run)
	out.Ran(run)
	return run
}

// tested makes up the results of a run's tests, and returns whether one failed.
func (m *making) tested(out *history.Writer, n int, u Unit, run history.Run, fails bool) (failed bool) {
	cases := make([]history.Case, u.Tests)
	same := m.IntN(3) > 0 && !m.mended[u.Name] // what was saved affects another part of it
	m.mended[u.Name] = fails
	for i := range cases {
		name := fmt.Sprintf("case %d", i)
		if i < len(u.Names) {
			name = u.Names[i]
		}
		took := float64(u.Took) / float64(u.Tests) * math.Exp(deviation*m.NormFloat64())
		if m.phase > 0 {
			took *= m.factor
		}
		c := history.Case{Name: name, Status: api.CasePassed}
		switch {
		case name == u.Change.Test && n >= u.Change.Day:
			took *= u.Change.Times
		case name == u.Flaky && m.Float64() < map[bool]float64{true: 0.35, false: 0.004}[m.phase > 0]:
			c.Status, failed = api.CaseFailed, true
		case fails && i == 0:
			c.Status, failed, same = api.CaseFailed, true, false
		}
		c.Took = time.Duration(took)
		cases[i] = c
	}
	out.Tested(
		history.Results{Unit: u.Name, Kind: u.Kind, Run: run.Run.Number, Began: run.Run.OrderedAt, Same: same, Cases: cases},
	)
	return failed
}

// sample makes up what services use over a day.
func (m *making) sample(out *history.Writer, n int, began time.Time) {
	for _, u := range m.Units {
		if u.Memory == 0 {
			continue
		}
		var all []history.Sample
		for at := time.Duration(0); at < workday; at += sampled {
			memory := float64(u.Memory) * (1 + 0.05*m.Float64())
			if u.Change.Grows > 0 && n >= u.Change.Day {
				memory += float64(u.Change.Grows) * at.Hours()
			}
			all = append(
				all,
				history.Sample{Unit: u.Name, Kind: u.Kind, Run: 1, At: began.Add(at), CPU: 0.02, Memory: int64(memory)},
			)
		}
		out.Used(all)
	}
}

// revision is the commit that is checked out.
func (m *making) revision() history.Revision {
	return history.Revision{
		Hash:   fmt.Sprintf("%040x", 0x5ea57a11<<20+m.commits*7919),
		Branch: "main",
		Clean:  history.Changed,
	}
}
