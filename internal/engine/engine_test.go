package engine

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/plan"
)

func projectOf(units ...*plan.Unit) *plan.Plan { return &plan.Plan{Name: "ferries", Units: units} }

func service(name string) *plan.Unit {
	return &plan.Unit{
		Name:  name,
		Run:   plan.Command{Shell: name},
		Ready: plan.Ready{After: time.Second},
		Stop:  plan.Stop{Signal: "TERM", Grace: time.Second},
	}
}

// noon is the start of the tests' sessions.
var noon = Moment{Wall: time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)}

// TestClockIsSet sets the wall clock in both directions while a service starts: orders and durations follow only the
// steady clock.
func TestClockIsSet(t *testing.T) {
	for _, set := range []time.Duration{-time.Hour, time.Hour, -10 * time.Second} {
		t.Run(set.String(), func(t *testing.T) {
			e := New(projectOf(service("api")))
			e.Step(noon, Begin{})
			at := noon.Add(2 * time.Second)
			at.Wall = at.Wall.Add(set)
			orders := e.Step(at, Spawned{Unit: "api", Run: 1, PID: 1})
			timer, ok := orders[0].(SetTimer)
			require.True(t, ok)
			assert.Equal(t, time.Second, timer.After)
			at = at.Add(timer.After)
			e.Step(at, TimerFired{timer.Timer})
			s := e.Snapshot()
			assert.Equal(t, VerdictCurrent, s.Verdict.Word)
			assert.Equal(t, 3*time.Second, s.Standing.StartedIn)
			assert.Equal(t, at.Wall, s.Units[0].Run.ReadyAt.Wall, "people see the clock as it is now")

			told := at.Wall.Add(time.Second)
			assert.Zero(t, e.written(noon.Wall), "the clock was set since that time was told")
			e.Step(at.Add(2*time.Second), TimerFired{})
			assert.Equal(t, at.Add(time.Second), e.written(told), "and not since this one")
		})
	}
}

// TestRunNumbersGoOn continues the run numbers of a unit that returns after an edit of the settings.
func TestRunNumbersGoOn(t *testing.T) {
	at := noon
	both, one := projectOf(service("api"), service("web")), projectOf(service("web"))
	e := New(both)
	e.Step(at, Begin{})
	e.Step(at, Spawned{Unit: "api", Run: 1})
	e.Step(at, NewPlan{Plan: one})
	e.Step(at, Exited{Unit: "api", Run: 1})
	require.Nil(t, e.Snapshot().Unit("api"))
	for _, o := range e.Step(at, NewPlan{Plan: both}) {
		if start, ok := o.(Start); ok {
			assert.Equal(
				t,
				Start{Unit: "api", Run: 2, Ripple: start.Ripple, Command: plan.Command{Shell: "api"}},
				start,
			)
			return
		}
	}
	t.Fatal("api does not start")
}

// TestSavesDoNotSeek looks for results elsewhere at the start, and not when a save has set off a run.
func TestSavesDoNotSeek(t *testing.T) {
	fares := &plan.Unit{Name: "fares", Kind: plan.Task, Run: plan.Command{Shell: "fares"}, Reuse: true}
	pages := &plan.Unit{
		Name: "pages", Kind: plan.Task, Run: plan.Command{Shell: "pages"}, Reuse: true, Follows: []string{"fares"},
	}
	e := New(projectOf(fares, pages))
	at := noon
	var sought []string
	take := func(orders []Order) {
		for i := 0; i < len(orders); i++ {
			switch o := orders[i].(type) {
			case Start:
				sought = append(sought, fmt.Sprint(o.Unit, " ", o.Seek))
				orders = append(orders, e.Step(at, Reused{Unit: o.Unit, Run: o.Run, Restored: true, By: "ci"})...)
			case SetTimer:
				at = at.Add(o.After)
				orders = append(orders, e.Step(at, TimerFired{o.Timer})...)
			}
		}
	}
	take(e.Step(at, Begin{}))
	take(e.Step(at, Change{Burst: 1, Since: at, Hits: []Hit{{Unit: "fares", Path: "fares.csv", What: "written"}}}))
	assert.Equal(t, []string{"fares true", "pages true", "fares false", "pages false"}, sought)
	assert.Equal(t, "ci", e.Snapshot().Unit("pages").Run.MadeBy)
}

// TestSaveIsRemembered reports the newest save even if later ripples came, and counts no file that the unit's own run
// wrote.
func TestSaveIsRemembered(t *testing.T) {
	at := noon
	e := New(projectOf(service("api"), service("web")))
	run := map[string]int{}
	var asked []Observe
	step := func(ev Event) {
		at = at.Add(time.Second)
		orders := e.Step(at, ev)
		for i := 0; i < len(orders); i++ {
			switch o := orders[i].(type) {
			case Start:
				run[o.Unit] = o.Run
				orders = append(orders, e.Step(at, Spawned{Unit: o.Unit, Run: o.Run})...)
			case StopRun:
				orders = append(
					orders,
					e.Step(at, Exited{Unit: o.Unit, Run: o.Run, Exit: Exit{Code: -1, Signal: "SIGTERM"}})...)
			case SetTimer:
				at = at.Add(o.After)
				orders = append(orders, e.Step(at, TimerFired{Timer: o.Timer})...)
			case Observe:
				asked = append(asked, o)
			}
		}
	}
	change := func(burst int, hits ...Hit) Change { return Change{Burst: burst, Since: at, Hits: hits} }
	step(Begin{})
	step(change(1, Hit{Unit: "api", Path: "a.go", What: "written"}))
	saved := at.Add(-2 * time.Second)
	require.Len(t, e.Snapshot().Saves, 1)
	for range 2 * keptRipples {
		step(Requested{Request: RestartUnit, Units: []string{"web"}})
	}
	require.NotNil(t, e.Snapshot().Standing.Save, "it is not forgotten")
	assert.WithinDuration(t, saved.Wall, e.Snapshot().Standing.Save.At.Wall, time.Minute)

	step(Touched{Burst: 2, Units: []string{"api"}}) // perhaps by its own run
	require.Len(t, asked, 1)
	step(change(2, Hit{Unit: "api", Path: "api.log", What: "written"}))
	assert.Len(t, e.Snapshot().Saves, 1)
	step(observed(asked[0], WroteNothing))
	assert.Len(t, e.Snapshot().Saves, 2, "it was not")
}

// TestFilesAreCountedOnce names the same files in a ripple and in the reason of a run.
func TestFilesAreCountedOnce(t *testing.T) {
	at := noon
	e := New(projectOf(service("api")))
	e.Step(at, Begin{})
	var hits []Hit
	for i := range 203 {
		hits = append(hits, Hit{Unit: "api", Path: fmt.Sprintf("f%d.go", i), What: "written"})
	}
	e.Step(at, Change{Burst: 1, Since: at, Hits: hits})
	s := e.Snapshot()
	assert.Equal(t, Reason{Kind: ReasonFiles, Files: []string{"f0.go", "f1.go"}, Count: 203}, s.Ripples[1].Opening())
	assert.Len(t, s.Ripples[1].Paths, 100)
	assert.Equal(t, s.Ripples[1].Opening(), filesChanged(hits))
}

// TestRippleKeepsSpans keeps how the time of every run, step and pass of a ripple was spent, also of runs before the
// newest.
func TestRippleKeepsSpans(t *testing.T) {
	at := noon
	began := at
	tool := service("pages")
	tool.Pass, tool.Ready = &plan.Pass{Within: time.Second}, plan.Ready{Within: time.Minute}
	e := New(projectOf(service("api"), tool))
	step := func(ev Event) {
		at = at.Add(time.Second)
		e.Step(at, ev)
	}
	step(Begin{})
	step(SettingUp{Unit: "api", Run: 1, Step: "install", Heavy: true})
	step(SettingUp{Unit: "api", Run: 1, Step: "free the port"})
	step(Spawned{Unit: "api", Run: 1})
	step(Requested{Request: RestartUnit, Units: []string{"api"}})
	step(Exited{Unit: "api", Run: 1, Exit: Exit{Code: -1, Signal: "SIGTERM"}})
	step(Spawned{Unit: "pages", Run: 1})
	step(PassBegan{Unit: "pages", Run: 1, After: at, By: at})
	step(PassEnded{Unit: "pages", Run: 1, Good: true})
	step(NotSpawned{Unit: "api", Run: 2, Problem: "no such file"})

	told := map[string]string{}
	for _, ref := range e.Snapshot().Ripples[0].Runs {
		name := fmt.Sprint(ref.Unit, " ", ref.Number, ".", ref.Pass)
		for _, s := range ref.Spans {
			told[name] += fmt.Sprintf(
				"%s %s %.0f-%.0f, ",
				s.Phase,
				s.Step,
				s.From.Sub(began).Seconds(),
				s.To.Sub(began).Seconds(),
			)
		}
	}
	assert.Equal(t, map[string]string{
		"api 1.0":   "starting  1-2, setup install 2-3, setup free the port 3-4, starting  4-5, stopping  5-6, ",
		"api 2.0":   "stopping  5-6, starting  6-10, ",
		"pages 1.0": "starting  1-9, ",
		"pages 1.1": "running  8-9, ",
	}, told)
}

// TestSpansAreBounded drops the spans of the oldest ripples, and of no others.
func TestSpansAreBounded(t *testing.T) {
	const units = 200
	var specs []*plan.Unit
	for i := range units {
		specs = append(specs, &plan.Unit{Name: fmt.Sprint("t", i), Kind: plan.Task, Run: plan.Command{Shell: "t"}})
	}
	w := &world{engine: New(projectOf(specs...)), now: noon}
	w.send(Begin{})
	for range keptSpans / units {
		w.send(Requested{Request: RestartAll})
		for i := range units {
			u := w.engine.byName[fmt.Sprint("t", i)]
			w.send(Exited{Unit: u.spec.Name, Run: u.run.Number})
		}
	}
	total, forgot := 0, 0
	for _, r := range w.engine.Snapshot().Ripples {
		require.NotEmpty(t, r.Runs)
		n := r.spans()
		if total += n; n == 0 {
			require.Zero(t, total, "the newest remember")
			forgot++
		}
	}
	assert.LessOrEqual(t, total, keptSpans)
	assert.Positive(t, forgot)
}

// TestMissingTwice fails a relay if something that it serves is missing at two checks in a row, and not while a unit
// is moving that may make it.
func TestMissingTwice(t *testing.T) {
	compiler := service("compiler")
	compiler.Kind, compiler.Outputs = plan.Task, []plan.Pattern{{Text: "public/**"}}
	site := service("site")
	site.Kind, site.Relay = plan.PageServer, &plan.Relay{Root: "/ferries/public"}
	e := New(projectOf(compiler, site))
	at := noon
	step := func(ev Event) []Order {
		at = at.Add(time.Second)
		return e.Step(at, ev)
	}
	look := func(problem string) State {
		step(Checked{Unit: "site", Run: 1, Problem: problem})
		return e.Snapshot().Unit("site").State
	}
	e.Step(at, Begin{})
	step(Spawned{Unit: "compiler", Run: 1})
	for _, o := range step(Spawned{Unit: "site", Run: 1}) {
		if timer, ok := o.(SetTimer); ok {
			step(TimerFired{timer.Timer})
		}
	}
	require.Equal(t, Ready, e.Snapshot().Unit("site").State)
	for range 3 {
		assert.Equal(t, Ready, look("missing"), "the compiler may make it")
	}
	step(Exited{Unit: "compiler", Run: 1})
	assert.Equal(t, Ready, look("missing"))
	assert.Equal(t, Ready, look(""))
	assert.Equal(t, Ready, look("missing"))
	assert.Equal(t, Failed, look("missing"))
	assert.Equal(t, Ready, look(""))
}
