// Package observation keeps what the processes of units were seen to do (package observe), and compares it with the
// settings: which files a unit reads that none of its rules covers, which it writes without declaring them, which units
// it connects to without needing them, whether it counts as ready too early. It decides nothing and proposes edits of
// the settings. Start reading at Compare; Observations is what a session has of it.
package observation

import (
	"sync"
	"time"

	"omnivigil/internal/plan"
	"omnivigil/internal/process/observe"
	"omnivigil/internal/store/observed"
)

// Observations are what the units of a session were seen to do. Its methods may be called from any goroutine.
type Observations struct {
	root  string
	store *observed.Record
	// news is called, once in a while, with a unit of whose newest run something new was seen.
	news func(unit string)

	mu    sync.Mutex
	asked map[string]bool // units that are observed on request, in this session
	of    map[string]*record
}

// record is what one unit was seen to do.
type record struct {
	command string // what it was seen to do belongs to; see observed.Command
	earlier observe.Seen
	run     int
	log     *observe.Log // of the newest observed run; nil: none
	problem string       // why the newest run is not observed
	due     *time.Timer  // calls news
}

// New returns the observations of a project. News is called from another goroutine, at most twice a second for each
// unit.
func New(root string, store *observed.Record, news func(unit string)) *Observations {
	return &Observations{root: root, store: store, news: news, asked: map[string]bool{}, of: map[string]*record{}}
}

// Stored returns what units of a plan were seen to do in earlier sessions with the same commands. It reads files.
func Stored(p *plan.Plan, store *observed.Record) []Observed {
	return New(p.Root, store, nil).Of(p, func(string) time.Time { return time.Time{} })
}

// Available returns why processes cannot be observed on this system; nil: they can.
func Available() error { return observe.Available() }

// Ask observes these units from their next run on, whatever their settings say.
func (o *Observations) Ask(units []string) {
	o.mu.Lock()
	defer o.mu.Unlock()
	for _, unit := range units {
		o.asked[unit] = true
	}
}

// Asked reports whether a unit is observed on request.
func (o *Observations) Asked(unit string) bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.asked[unit]
}

// newsPause is how long news wait for more.
const newsPause = 500 * time.Millisecond

// Begin returns the log for a new run of a unit; nil: it is not observed. It reads what was stored.
func (o *Observations) Begin(u *plan.Unit, run int) *observe.Log {
	if u.Relay != nil || !u.Observe && !o.Asked(u.Name) {
		return nil
	}
	command := observed.Command(u)
	o.mu.Lock()
	defer o.mu.Unlock()
	r := o.known(u)
	if r.command != command {
		r = &record{command: command}
		o.of[u.Name] = r
	}
	if r.log != nil {
		r.earlier = r.log.Seen().With(r.earlier)
	}
	r.run, r.problem = run, ""
	r.log = observe.NewLog(o.root, func() { o.soon(u.Name, r) })
	return r.log
}

// known returns the record of a unit. The caller has the lock.
func (o *Observations) known(u *plan.Unit) *record {
	r := o.of[u.Name]
	if r == nil {
		r = &record{command: observed.Command(u), earlier: o.store.Load(u)}
		o.of[u.Name] = r
	}
	return r
}

// seen is what a unit was seen to do in all runs of its command.
func (r *record) seen() observe.Seen {
	if r.log == nil {
		return r.earlier
	}
	return r.log.Seen().With(r.earlier)
}

// soon calls news for a unit.
func (o *Observations) soon(unit string, r *record) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if r.due != nil || o.of[unit] != r {
		return
	}
	r.due = time.AfterFunc(newsPause, func() {
		o.mu.Lock()
		r.due = nil
		o.mu.Unlock()
		o.news(unit)
	})
}

// Failed records why a unit's newest run is not observed.
func (o *Observations) Failed(unit string, err error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if r := o.of[unit]; r != nil {
		r.log, r.problem = nil, err.Error()
	}
}

// Of returns what units were seen to do: in all runs of the same commands, in this session and before. ReadyAt returns
// when the newest run of a unit became ready.
func (o *Observations) Of(p *plan.Plan, readyAt func(unit string) time.Time) []Observed {
	var all []Observed
	for _, u := range p.Units {
		if u.Relay != nil {
			continue
		}
		o.mu.Lock()
		r := o.known(u)
		one := Observed{Unit: u.Name, Run: r.run, Problem: r.problem, Seen: r.seen(), ReadyAt: readyAt(u.Name)}
		if r.log != nil {
			one.Last = r.log.Last()
		}
		o.mu.Unlock()
		if one.Run > 0 || one.Problem != "" || len(one.Seen.Paths) > 0 {
			all = append(all, one)
		}
	}
	return all
}

// OfRun returns what a unit was seen to do in its newest run, if that is the one with a number.
func (o *Observations) OfRun(unit string, run int) (observe.Seen, bool) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if r := o.of[unit]; r != nil && r.run == run && r.log != nil {
		return r.log.Seen(), true
	}
	return observe.Seen{}, false
}

// Keep stores what a unit was seen to do.
func (o *Observations) Keep(u *plan.Unit) error {
	o.mu.Lock()
	r := o.of[u.Name]
	if r == nil || r.log == nil {
		o.mu.Unlock()
		return nil
	}
	seen := r.seen()
	o.mu.Unlock()
	return o.store.Keep(u, seen)
}

// Reads are the files that a unit was seen to read and has not written itself, in order.
func (o *Observations) Reads(u *plan.Unit) []string {
	o.mu.Lock()
	seen := o.known(u).seen()
	o.mu.Unlock()
	var names []string
	for _, p := range seen.Paths {
		if p.Access.Has(observe.Read) && !p.Access.Any(observe.Written|observe.Created) {
			names = append(names, p.Name)
		}
	}
	return names
}
