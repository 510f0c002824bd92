package simulate

import (
	"fmt"
	"time"

	"omnivigil/internal/engine"
	"omnivigil/internal/plan"
)

// Checker watches a world and holds it to the rules:
//
//  1. never two live runs of one unit;
//
//  2. no unit starts while a need is not ready or done;
//
//  3. a ripple runs each unit at most once, unless a later change, a request or
//     a crash concerns it;
//
//  4. when all is at rest, every unit whose chain did not fail is current;
//
//  5. stale is never shown as current;
//
//  6. no request and no change is ever lost;
//
//  7. every order is answered or timed out; nothing waits forever;
//
//  8. units that set themselves or each other off are noticed by the third time, and none
//     ignores what is in no such loop;
//
//  9. the verdict is CURRENT if and only if some unit is wanted, every wanted unit is
//     current and at rest, and the saved settings are in use; each other word has its
//     reason; while files are not watched it is at most stale;
//
//  10. never more tasks, suites and setup steps at once than there are jobs, and none
//     at the same time as one that runs alone;
//
//  11. a result is not reused when a user wants it run;
//
//  12. what a run said last is what counts, however late the rest of it comes;
//
//  13. a unit whose program compares file times, and which is shown as current, has made what it made
//     from the newest contents, or there is a doubt about it; no doubt is without a reason;
//
//  14. a service is not shown as ready from a look that finds it in trouble to one that finds it well, and is so
//     after that;
//
//  15. a page of a relay is let through only when what it comes from has read all that was written, or the page says
//     so; it is out of date when a unit behind it has run again; nothing waits at rest; files that are for pages
//     alone refresh these, once for each relay, and set no unit off;
//
//  16. when nothing more will happen all is at rest, and what is at rest is moved by no timer;
//
//  17. there is a doubt about each file that the newest run of a wanted unit was seen to read and no rule covers, and
//     no other doubt of that kind;
//
//  18. there is a doubt about each service that a running wanted unit needs and that is stopped or does not answer, and
//     no other doubt of that kind.
type Checker struct {
	Broken []string // the broken rules, with what was seen

	world *World
	plan  *plan.Plan
	units map[string]*books
	gone  map[string]*books      // of units that were removed from the settings
	moves map[int]map[string]int // runs, by ripple and unit
	after map[int]map[string]int // reasons for another run, by ripple and unit

	settingsTouched, settingsRead int  // bursts of writes to the settings
	settingsBroken                bool // the newest that was read is invalid
	quitting                      bool
	foreign                       int // processors that other programs use
	loops                         loops
	ripple                        int                   // the newest seen
	rested                        bool                  // everything was at rest after the step before
	generations                   map[string]generation // of pages, by unit
}

// books are the checker's own record of a unit.
type books struct {
	spec  *plan.Unit
	world *World

	ordered
	heard
	wished
	owing
}

// ordered are the runs of a unit that the engine has ordered.
type ordered struct {
	live       int           // the run that is not over; 0: none
	newest     int           // the newest
	words      []string      // to be added to its command
	once       [][]string    // instead of these, for the next runs
	narrowed   string        // a description of the cases
	narrow     []string      // the arguments for them
	some       string        // the cases of its newest run
	fails      bool          // its live run has reported something that makes it a failed one
	said       engine.Report // the last report of its newest run
	ready      bool
	ails       bool // a check has failed
	lived      int  // the newest run that was ready after running for a while
	signalled  bool // the live run was told to end
	done       bool // its newest run succeeded
	good       int  // the number of good runs
	goodBefore int  // the number of good runs and passes before the newest good pass
	upGood     map[string]int
	goodUp     map[string]int // the generation of each followed unit at the newest good run
}

// heard is what was written of a unit's files, and who knows of it.
type heard struct {
	told     writings          // that were reported to the engine
	read     writings          // of those, what the newest run could read
	goodRead writings          // what the newest good run could read
	undone   map[int]bool      // bursts that changed nothing in the end
	toldAt   map[int]time.Time // when each was last reported
	toldTo   map[int]int       // the run that was live then
	void     map[int]bool      // bursts that do not count
	edits    int               // of its settings
	ignored  map[string]bool   // files of loops that are ignored
	tookUp   []int             // the writes that its newest good pass has picked up

	// Of a unit that picks up changes by itself.
	really writings         // all that were made, reported or not
	passes map[int]writings // of those, what each pass could read
	deaf   bool             // it picks up nothing, not even that a file was restored
}

// wished is what was requested of a unit.
type wished struct {
	wanted bool
	paused bool
	must   int  // a request requires a run of at least this number
	asked  bool // its newest run is such a run
}

// owing are commands of reactions, or "" for everything, that must succeed before a unit is current again.
type owing struct {
	owed    map[string]bool
	payable []string        // those that the live run can do
	command string          // the one that it runs
	job     bool            // its live run is a task's or suite's, or in a setup step
	unruled map[string]bool // files that its newest run was seen to read and no rule covers
	heavy   bool            // the announced step is a setup step
}

func (c *Checker) newBooks(spec *plan.Unit) *books {
	return &books{
		spec:    spec,
		world:   c.world,
		ordered: ordered{upGood: map[string]int{}, goodUp: map[string]int{}},
		heard: heard{
			told: writings{}, really: writings{}, passes: map[int]writings{}, undone: map[int]bool{},
			toldAt: map[int]time.Time{}, toldTo: map[int]int{}, void: map[int]bool{},
		},
		owing: owing{owed: map[string]bool{"": true}},
	}
}

// writings are how often files were written in each burst. An edit of the settings is a write with a negative number.
type writings map[int]int

// behind returns the number of bursts that a run that could read these has not read completely.
func (b *books) behind(read writings) int {
	n := 0
	for burst, times := range b.told {
		if heard := read[burst]; heard < times && !b.void[burst] &&
			!(b.undone[burst] && (heard == 0 && b.mayPass(burst) || b.deaf)) {
			n++
		}
	}
	return n
}

// mayPass reports whether a pass need not be awaited that may follow a burst that changed nothing.
func (b *books) mayPass(burst int) bool {
	for _, could := range b.passes {
		if could[burst] >= b.told[burst] {
			return true // it has come
		}
	}
	return b.spec.Pass == nil || b.spec.SkipUnchanged || b.live == 0 || b.live != b.toldTo[burst] ||
		b.world.Now.Sub(b.toldAt[burst]) >= b.spec.Pass.Within
}

// hasNews reports whether the newest pass of a unit in a loop has read anything that is not ignored.
func (b *books) hasNews() bool {
	if len(b.ignored) == 0 {
		return true
	}
	for burst := range b.told {
		if b.read[burst] != b.goodRead[burst] && !b.void[burst] {
			return true
		}
	}
	return false
}

// Watch returns a checker that watches the world from its first step on.
func Watch(w *World) *Checker {
	c := &Checker{world: w, plan: w.Plan, units: map[string]*books{}, gone: map[string]*books{},
		moves: map[int]map[string]int{}, after: map[int]map[string]int{}, loops: newLoops()}
	for _, u := range w.Plan.Units {
		c.units[u.Name] = c.newBooks(u)
	}
	w.Before, w.After, w.Spawned = c.before, c.afterStep, c.spawned
	w.Wrote, w.PassBegins, w.Made = c.wrote, c.passBegins, c.madeBy
	return c
}

func (c *Checker) broke(rule int, format string, args ...any) {
	const most = 20
	if len(c.Broken) >= most {
		return
	}
	c.Broken = append(
		c.Broken,
		fmt.Sprintf("rule %d, step %d, %s: ", rule, c.world.Steps, c.world.Now.Format("15:04:05.000"))+
			fmt.Sprintf(format, args...),
	)
}
