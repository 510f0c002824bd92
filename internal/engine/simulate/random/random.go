// Package random plays random projects against the engine: a seed decides the units, the saves, crashes, slow stops,
// settings edits and lost events, and what every process does. Play returns the rules that were broken, if any. The
// same seed always plays the same. Start reading at Play.
package random

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"time"

	"omnivigil/internal/engine"
	"omnivigil/internal/engine/explain"
	"omnivigil/internal/engine/simulate"
	"omnivigil/internal/plan"
)

// Result is the result of one seed.
type Result struct {
	Seed   uint64
	Units  int
	Steps  int
	Broken []string // broken rules; empty: none
	Story  []string // what happened, if requested
}

// Play plays the story of one seed: a random project, some minutes of saves, requests and failures, and then quiet
// until everything is at rest. Each of also is called with the world before anything happens in it.
func Play(seed uint64, withStory bool, also ...func(*simulate.World)) Result {
	r := rand.New(rand.NewPCG(seed, 0x5a17))
	p := randomPlan(r)
	d := &script{rand: r, writers: map[string]writer{}}
	if seed%3 == 0 {
		d.more = rand.New(rand.NewPCG(seed, 0x30e))
		limit(p, d.more)
	}
	for _, u := range p.Units {
		to := u
		if r.IntN(2) == 0 {
			to = p.Units[r.IntN(len(p.Units))]
		}
		if r.IntN(8) == 0 && !(to == u && u.Pass != nil) {
			d.writers[u.Name] = writer{to.Name, time.Duration(1+r.IntN(900)) * time.Millisecond}
		}
	}
	w := simulate.NewWorld(p, d.behave)
	d.world = w
	c := simulate.Watch(w)
	result := Result{Seed: seed, Units: len(p.Units)}
	if withStory {
		tellStory(w, &result.Story)
	}
	for _, look := range also {
		look(w)
	}
	w.Double = func() bool { return r.IntN(50) == 0 }
	w.Noisy = func() bool { return r.IntN(4) == 0 }
	w.Send(engine.Begin{})
	actions := 5 + r.IntN(60)
	for range actions {
		w.Run(d.pause())
		if r.IntN(40) == 0 {
			w.Again(c)
			d.edits = 0
		}
		if r.IntN(15) == 0 {
			w.In(d.pause(), d.setClock)
		}
		if r.IntN(30) == 0 {
			w.Unwatch("the system is out of order")
			w.In(d.pause(), func() { w.Unwatch("") })
		}
		d.act()
		if len(c.Broken) > 0 {
			break
		}
	}
	// From here on every new process behaves well, so that everything can come to rest.
	d.healthy = true
	d.editSettings() // valid ones, if the last ones were invalid
	w.Run(time.Hour)
	if len(c.Broken) == 0 {
		c.AtRest()
	}
	result.Steps, result.Broken = w.Steps, c.Broken
	return result
}

// script schedules what happens.
type script struct {
	rand    *rand.Rand
	world   *simulate.World
	healthy bool
	added   int
	edits   int
	writers map[string]writer
	// more decides what happens only in every third story. So the other stories stay as they are when something is
	// added here, and seeds that are known to detect a mutation still do.
	more *rand.Rand
}

// writer is a unit whose runs write what affects a unit, itself or another.
type writer struct {
	to    string
	after time.Duration
}

// randomPlan makes a project of 1 to 60 units in which each may need and follow some of those before it.
func randomPlan(r *rand.Rand) *plan.Plan {
	p := &plan.Plan{Name: "made up", Root: "/made-up", Jobs: r.IntN(4)}
	n := 1 + r.IntN(12)
	if r.IntN(10) == 0 {
		n = 1 + r.IntN(60)
	}
	for i := range n {
		u := &plan.Unit{
			Name: fmt.Sprintf("u%d", i), Kind: plan.Kind(r.IntN(3)),
			Stop:    plan.Stop{Signal: "TERM", Grace: d(r, 100, 3000)},
			Overlap: plan.Overlap(r.IntN(2)), AfterExit: plan.AfterExit(r.IntN(2)),
			Manual: r.IntN(12) == 0, Alone: r.IntN(12) == 0,
			Run: plan.Command{Shell: "whole"},
		}
		u.Reuse = u.Kind == plan.Task && r.IntN(2) == 0
		u.Observe = i%4 == 1
		u.Widen = u.Kind.Ends() && r.IntN(3) == 0
		if u.Kind.Ends() && r.IntN(4) == 0 {
			u.ComparesTimes, u.Reuse, u.Overlap = true, false, plan.Overlap(r.IntN(4)/3)^plan.Abandon
			if r.IntN(2) == 0 {
				u.Outputs = []plan.Pattern{{Text: "object"}}
			}
		}
		u.MayServe = u.Kind == plan.Task && !u.Manual && !u.ComparesTimes && r.IntN(8) == 0
		switch r.IntN(6) {
		case 0:
			u.Reactions = []plan.Reaction{{Do: plan.SendSignal, Signal: "HUP"}}
		case 1:
			u.Reactions = []plan.Reaction{{Run: &plan.Command{Shell: "only {area}"}}}
		}
		for j := range u.Reactions {
			u.Reactions[j].When.Text = u.Name + "/**"
		}
		if u.Kind == plan.Service {
			u.Ready = plan.Ready{After: d(r, 10, 800)}
			if r.IntN(3) == 0 {
				u.SkipUnchanged = r.IntN(3) == 0
				u.Pass, u.Ready = &plan.Pass{Within: d(r, 300, 3000)}, plan.Ready{Within: 5 * time.Second}
			}
			if r.IntN(2) == 0 {
				u.Ready = plan.Ready{Port: 4000 + i, Within: d(r, 200, 5000)}
			}
		}
		for j := range i {
			if r.IntN(i+3) < 1 {
				u.Needs = append(u.Needs, fmt.Sprintf("u%d", j))
			}
			if r.IntN(i+3) < 1 {
				u.Follows = append(u.Follows, fmt.Sprintf("u%d", j))
			}
		}
		p.Units = append(p.Units, u)
	}
	if r.IntN(4) == 0 {
		addRelay(r, p)
	}
	return p
}

// addRelay adds a page server before a service of the project, if there is one, and makes some of the units behind it
// react to files that are only for pages.
func addRelay(r *rand.Rand, p *plan.Plan) {
	services := slices.DeleteFunc(slices.Clone(p.Units), func(u *plan.Unit) bool { return u.Kind != plan.Service })
	if len(services) == 0 {
		return
	}
	to := services[r.IntN(len(services))]
	for _, name := range p.Chain(to.Name) {
		if u := p.Unit(name); u.Kind == plan.Service && u.Pass == nil && len(u.Reactions) == 0 && r.IntN(2) == 0 {
			do := []plan.Action{plan.RefreshPage, plan.SwapStyle}[r.IntN(2)]
			u.Reactions = []plan.Reaction{{Do: do, When: plan.Pattern{Text: u.Name + "/**"}}}
		}
	}
	p.Units = append(p.Units, &plan.Unit{
		Name: "site", Kind: plan.PageServer, Relay: &plan.Relay{To: to.Name}, Ready: plan.Ready{After: 1},
		Stop: plan.Stop{Signal: "TERM", Grace: d(r, 100, 3000)}, Run: plan.Command{Shell: "whole"},
	})
}

// d is a random duration in milliseconds.
func d(r *rand.Rand, from, to int) time.Duration {
	return time.Duration(from+r.IntN(to-from)) * time.Millisecond
}

// behave makes most processes well-behaved and some of them not.
func (dr *script) behave(unit string, _ int) simulate.Behavior {
	r := dr.rand
	ends := dr.world.Plan.Unit(unit).Kind.Ends()
	b := simulate.Behavior{SpawnTakes: d(r, 0, 5), ReadyAfter: d(r, 1, 400), StopTakes: d(r, 1, 300), EndsAfter: -1}
	if r.IntN(6) == 0 {
		b.SetupTakes, b.Quick = d(r, 1, 1500), r.IntN(3) == 0
	}
	if ends {
		b.EndsAfter = d(r, 1, 2000)
		b.RestoreTakes, b.Lost = d(r, 1, 200), r.IntN(5) == 0
	}
	if dr.world.Plan.Unit(unit).MayServe {
		switch r.IntN(4) {
		case 0:
			b.Listens, b.EndsAfter = true, -1
		case 1:
			b.Listens, b.EndsAfter = true, d(r, 500, 3000)
		case 2:
			b.EndsAfter = d(r, 9000, 15000) // it may have been running for long enough
		}
	}
	if pass := dr.world.Plan.Unit(unit).Pass; pass != nil {
		b.Tool = dr.tool(pass)
		b.SpawnTakes += 300 * time.Microsecond // never at the very moment of a write
	}
	if wr, writes := dr.writers[unit]; writes {
		b.Writes, b.WriteAfter = wr.to, wr.after+d(r, 0, 50)
	}
	if !ends && b.Tool == nil && r.IntN(6) == 0 && dr.world.Plan.Unit(unit).Relay == nil {
		b.Ails, b.AilsFor = d(r, 1, 3000), d(r, 10, 3000)
	}
	if ends && r.IntN(6) == 0 {
		b.Late = d(r, 1, 4)
	}
	if dr.healthy {
		b.ReadyAfter = time.Millisecond
		return b
	}
	switch r.IntN(17) {
	case 7:
		b.Fails = ends
	case 0:
		b.NoSpawn = true
	case 1:
		b.ReadyAfter = -1
	case 2:
		b.StopTakes = -1
	case 3:
		b.EndsAfter, b.Exit = d(r, 0, 3), engine.Exit{Code: 1}
	case 4:
		b.EndsAfter, b.Exit = d(r, 0, 3000), engine.Exit{Code: r.IntN(3)}
	case 5:
		b.ReadyAfter = d(r, 1000, 8000)
	case 6:
		b.EndsAfter, b.Exit = d(r, 100, 20000), engine.Exit{Code: -1, Signal: "SIGSEGV"}
	}
	return b
}

// tool makes most tools that pick up changes well-behaved and some of them not.
func (dr *script) tool(pass *plan.Pass) *simulate.Tool {
	r := dr.rand
	slow, says := r.IntN(6) == 0, r.IntN(3) > 0
	return &simulate.Tool{
		Says:     says,
		Deaf:     !dr.healthy && r.IntN(10) == 0,
		Cuts:     r.IntN(4) == 0,
		Skips:    r.IntN(2) == 0,
		Compares: r.IntN(2) == 0,
		Notice: func() time.Duration {
			return d(r, 1,
				int(min(pass.Within*2/3, 400*time.Millisecond)/time.Millisecond))
		},
		Lag: func() time.Duration { return d(r, 0, 15) },
		Work: func() (time.Duration, bool) {
			takes := d(r, 1, 600)
			switch {
			case !says: // a tool that does not report beginnings has to end within the time
				takes = min(takes, pass.Within/5)
			case slow:
				takes = d(r, 100, 9000)
			case !dr.healthy && r.IntN(30) == 0:
				takes = time.Minute
			}
			return takes, dr.healthy || r.IntN(5) > 0
		},
	}
}

// pause is the time until the next event: often zero.
func (dr *script) pause() time.Duration {
	switch dr.rand.IntN(4) {
	case 0:
		return 0
	case 1:
		return d(dr.rand, 0, 20)
	case 2:
		return d(dr.rand, 0, 500)
	}
	return d(dr.rand, 0, 8000)
}

// limit limits the runs of some tasks and suites.
func limit(p *plan.Plan, r *rand.Rand) {
	for _, u := range p.Units {
		if u.Kind.Ends() && r.IntN(6) == 0 {
			u.Limit = d(r, 300, 4000)
		}
	}
}

// actMore is act for every third story.
func (dr *script) actMore() {
	r, w := dr.more, dr.world
	one := func() string { return w.Plan.Units[r.IntN(len(w.Plan.Units))].Name }
	switch r.IntN(2) {
	case 0:
		units := []string{one(), one()}
		w.Send(engine.Requested{Request: engine.Only, Units: units[:r.IntN(3)]})
	default:
		w.Send(engine.Surveyed{Load: float64(r.IntN(30)), Foreign: r.IntN(4), Busy: []string{one()}})
	}
}

func (dr *script) act() {
	r, w := dr.rand, dr.world
	unit := w.Plan.Units[r.IntN(len(w.Plan.Units))].Name
	if dr.more != nil && dr.more.IntN(10) == 0 {
		dr.actMore()
	}
	switch n := r.IntN(20); {
	case n < 10:
		dr.save()
	case n == 10:
		dr.editSettings()
	case n == 11:
		w.Send(engine.Requested{Request: engine.StopUnit, Units: []string{unit}})
		if r.IntN(3) == 0 { // another request while it is still stopping
			w.In(d(r, 0, 300), func() {
				if w.Plan.Unit(unit) != nil {
					w.Send(engine.Requested{Request: engine.RestartUnit, Units: []string{unit}})
				}
			})
		}
	case n == 12:
		w.Send(engine.Requested{Request: engine.StartUnit, Units: []string{unit}})
	case n == 13 && r.IntN(5) == 0:
		w.Send(engine.Requested{Request: engine.ReactAgain, Units: []string{unit}})
	case n == 13:
		w.Send(engine.Requested{Request: engine.SetUpUnit, Units: []string{unit}})
	case n == 14 && r.IntN(3) == 0:
		if r.IntN(2) == 0 {
			w.Send(engine.Requested{Request: engine.Widen, Units: []string{unit}})
		} else {
			to := []string{"TestTide", "TestBerth"}[r.IntN(2)]
			w.Send(engine.Requested{Request: engine.Narrow, Units: []string{unit}, Words: []string{"-run", to}, To: to})
		}
	case n == 14 && r.IntN(2) == 0:
		request := []engine.Request{engine.AddWords, engine.RunWith}[r.IntN(2)]
		words := [][]string{nil, {"-v"}, {"-run", "Tide"}}[r.IntN(3)]
		w.Send(engine.Requested{Request: request, Units: []string{unit}, Words: words})
	case n < 15:
		w.Send(engine.Requested{Request: engine.RestartUnit, Units: []string{unit}})
	case n == 15:
		w.Send(engine.Requested{Request: engine.PauseUnit, Units: []string{unit}})
	case n == 16:
		w.Send(engine.Requested{Request: engine.ResumeUnit, Units: []string{unit}})
	case n == 17:
		w.Send(engine.Requested{Request: engine.PauseAll})
	default:
		w.Send(engine.Requested{Request: engine.ResumeAll})
	}
}

// setClock sets the wall clock, in either direction, by a little or by hours.
func (dr *script) setClock() {
	by := []time.Duration{50 * time.Millisecond, 300 * time.Millisecond, 10 * time.Second, time.Hour,
		9 * time.Hour}[dr.rand.IntN(5)]
	if dr.rand.IntN(2) == 0 {
		by = -by
	}
	dr.world.Send(engine.TimerFired{}) // clocks are read all the time
	dr.world.Ahead += by
	dr.world.ClockSet = true
}

// editSettings writes the settings; a moment later they are read, and sometimes they are invalid.
func (dr *script) editSettings() {
	r, w := dr.rand, dr.world
	dr.edits++
	burst := dr.edits
	w.Send(engine.SettingsTouched{Burst: burst})
	bad := r.IntN(4) == 0
	w.In(d(r, 0, 300), func() {
		if bad && !dr.healthy {
			w.Send(engine.PlanBroken{Problem: "unknown key", Burst: burst})
		} else {
			w.Send(engine.NewPlan{Plan: dr.edit(), Burst: burst})
		}
	})
}

// edit returns the project with a random change in its settings.
func (dr *script) edit() *plan.Plan {
	r, old := dr.rand, dr.world.Plan
	p := &plan.Plan{Name: old.Name, Root: old.Root, Jobs: old.Jobs}
	if r.IntN(6) == 0 {
		p.Jobs = r.IntN(4)
	}
	gone := ""
	if len(old.Units) > 1 && r.IntN(3) == 0 {
		gone = old.Units[r.IntN(len(old.Units))].Name
	}
	is := func(name string) bool { return name == gone }
	for _, u := range old.Units {
		if u.Name == gone {
			continue
		}
		c := *u
		c.Needs, c.Follows = slices.DeleteFunc(
			slices.Clone(u.Needs),
			is,
		), slices.DeleteFunc(
			slices.Clone(u.Follows),
			is,
		)
		switch r.IntN(12) {
		case 0:
			c.Run = plan.Command{Shell: fmt.Sprint("whole ", r.IntN(1000))}
		case 1:
			c.Needs = nil
		case 2:
			if len(p.Units) > 0 {
				if up := p.Units[r.IntN(len(p.Units))].Name; !slices.Contains(c.Follows, up) {
					c.Follows = append(c.Follows, up)
				}
			}
		case 3:
			c.Stop.Grace = d(r, 100, 3000)
		case 4:
			c.Reactions = nil
		}
		p.Units = append(p.Units, &c)
	}
	if r.IntN(3) == 0 {
		dr.added++
		fresh := randomPlan(r).Units[0]
		fresh.Name = fmt.Sprintf("n%d", dr.added%3)
		if p.Unit(fresh.Name) == nil {
			p.Units = append(p.Units, fresh)
		}
	}
	return p
}

// save touches some units, with some of the problems that events can have.
func (dr *script) save() {
	r, w := dr.rand, dr.world
	var hits []engine.Hit
	for range 1 + r.IntN(3) {
		u := w.Plan.Units[r.IntN(len(w.Plan.Units))]
		h := engine.Hit{Unit: u.Name, Path: u.Name + "/file", What: "written", Rule: u.Name + "/**"}
		if len(u.Reactions) > 0 && (u.Reactions[0].Do == plan.SendSignal || r.IntN(3) > 0) {
			h.Reaction, h.Captures = 1, map[string]string{"area": fmt.Sprint(r.IntN(3))}
		}
		h.TakenUp = u.Pass != nil && h.Reaction == 0
		if h.Reaction > 0 && u.Reactions[0].Run != nil && !u.ComparesTimes && r.IntN(8) == 0 {
			h.Missing = "what it names"
		}
		if r.IntN(8) == 0 {
			h.More = 1 + r.IntN(50_000)
		}
		hits = append(hits, h)
	}
	s := simulate.Saving{Debounce: d(r, 0, 400), TouchedLost: r.IntN(20) == 0}
	if r.IntN(2) == 0 {
		s.Notice = d(r, 0, 30)
	}
	if s.Notice > 0 && r.IntN(8) == 0 { // between the write and its report
		w.In(d(r, 0, 30), dr.setClock)
	}
	s.TouchedLost = s.TouchedLost && !slices.ContainsFunc(hits, func(h engine.Hit) bool { return w.IsDeaf(h.Unit) })
	if r.IntN(6) == 0 {
		s.Older = time.Duration(1+r.IntN(100)) * time.Second
	}
	s.Same = !s.TouchedLost && s.Debounce > 0 && r.IntN(10) == 0
	s.Back = !s.Same && r.IntN(2) == 0
	w.Save(s, hits...)
}

// tellStory records every event and order, readable.
func tellStory(w *simulate.World, story *[]string) {
	check := w.After
	w.After = func(ev engine.Event, orders []engine.Order) {
		said := fmt.Sprintf("%T%+v", ev, ev)
		if edit, ok := ev.(engine.NewPlan); ok {
			said = fmt.Sprintf("%T of %d units", ev, len(edit.Plan.Units))
		}
		*story = append(*story, w.Now.Format("15:04:05.000")+"  "+said)
		for _, o := range orders {
			*story = append(*story, "              -> "+explain.Order(o))
		}
		check(ev, orders)
	}
}
