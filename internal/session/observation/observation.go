// Package observation keeps what the processes of units were seen to do (package observe), and compares it with the
// settings: which files a unit reads that none of its rules covers, which it writes without declaring them, which units
// it connects to without needing them, whether it counts as ready too early. It decides nothing and proposes edits of
// the settings. Start reading at Compare; Observations is what a session has of it.
package observation

import (
	"fmt"
	"slices"
	"sync"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/engine"
	"omnivigil/internal/plan"
	"omnivigil/internal/plan/edit"
	"omnivigil/internal/process/observe"
	"omnivigil/internal/store/observed"
	"omnivigil/internal/text/format"
)

// Observations are what the units of a session were seen to do. Its methods may be called from any goroutine. Those
// that compare read ignore files and directories.
type Observations struct {
	// Moved has a value when what counts as inputs of units has changed: see Inputs.
	Moved chan struct{}

	root  string
	store *observed.Record
	host  Host

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
	inputs  []string     // that the session was last told to watch
	due     *time.Timer  // calls tell
}

// Host is what observations need of their session. Its methods may be called from any goroutine.
type Host interface {
	Send(ev engine.Event)           // to the engine; blocks until there is room
	Plan() *plan.Plan               // the plan in use
	State() *engine.Snapshot        // the engine's state
	Time(m engine.Moment) time.Time // the inverse of the engine's form of a time
}

// New returns the observations of a project. The host may be nil where nothing is observed.
func New(root string, store *observed.Record, host Host) *Observations {
	return &Observations{
		Moved: make(chan struct{}, 1), root: root, store: store, host: host,
		asked: map[string]bool{}, of: map[string]*record{},
	}
}

// Stored returns what units of a plan were seen to do in earlier sessions with the same commands. It reads files.
func Stored(p *plan.Plan, store *observed.Record) []Observed {
	return New(p.Root, store, nil).seen(p)
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

// soon calls tell for a unit, at most twice a second.
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
		o.tell(unit)
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

// seen returns what units were seen to do: in all runs of the same commands, in this session and before.
func (o *Observations) seen(p *plan.Plan) []Observed {
	var all []Observed
	for _, u := range p.Units {
		if u.Relay != nil {
			continue
		}
		one := Observed{Unit: u.Name, ReadyAt: o.readyAt(u.Name)}
		o.mu.Lock()
		r := o.known(u)
		one.Run, one.Problem, one.Seen = r.run, r.problem, r.seen()
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

// readyAt is when the newest run of a unit became ready; zero: it is not.
func (o *Observations) readyAt(unit string) time.Time {
	if o.host == nil {
		return time.Time{}
	}
	if u := o.host.State().Unit(unit); u != nil && !u.Run.ReadyAt.IsZero() {
		return o.host.Time(u.Run.ReadyAt)
	}
	return time.Time{}
}

// tell reports to the engine which files the newest run of a unit has read that no rule covers.
func (o *Observations) tell(unit string) {
	o.mu.Lock()
	r := o.of[unit]
	if r == nil || r.log == nil {
		o.mu.Unlock()
		return
	}
	run, ofRun := r.run, r.log.Seen()
	o.mu.Unlock()
	p := o.host.Plan()
	u, all := p.Unit(unit), o.seen(p)
	i := slices.IndexFunc(all, func(one Observed) bool { return one.Unit == unit })
	if i < 0 { // it has been removed from the plan
		return
	}
	if u.Reuse && u.Observe {
		o.watch(r, Inputs(p, all, unit))
	}
	all[i].Seen = ofRun
	files := Uncovered(p, all, unit)
	o.host.Send(engine.Uncovered{Unit: unit, Run: run, Files: files[:min(len(files), maxReported)]})
}

// maxReported limits the files that are reported to the engine: it keeps fewer doubts.
const maxReported = 50

// watch lets the session watch the inputs of a unit, if they are other ones than before.
func (o *Observations) watch(r *record, inputs []string) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if slices.Equal(r.inputs, inputs) {
		return
	}
	r.inputs = inputs
	select {
	case o.Moved <- struct{}{}:
	default:
	}
}

// CompareAnew compares what was observed with new settings. It does not block.
func (o *Observations) CompareAnew(p *plan.Plan) {
	for _, u := range p.Units {
		if u.Relay == nil {
			go o.tell(u.Name)
		}
	}
}

// Compare returns what units were seen to do, and how it differs from the plan in use; without names, of all units.
func (o *Observations) Compare(units []string) api.Observations {
	p := o.host.Plan()
	all := Compare(p, o.seen(p))
	other := func(unit string) bool { return len(units) > 0 && !slices.Contains(units, unit) }
	all.Units = slices.DeleteFunc(all.Units, func(one api.Observation) bool { return other(one.Unit) })
	all.Mismatches = slices.DeleteFunc(all.Mismatches, func(m api.Mismatch) bool { return other(m.Unit) })
	return all
}

// AddReaders adds to an impact which units were seen to read the path although no rule of theirs covers it.
func (o *Observations) AddReaders(f *api.Impact) {
	p := o.host.Plan()
	AddReaders(f, p, o.seen(p))
}

// Inputs are the files that count as inputs of units because the units were seen to read them: of tasks whose results
// are reused, and that are always observed.
func (o *Observations) Inputs(p *plan.Plan) map[string][]string {
	inputs := map[string][]string{}
	var seen []Observed
	for _, u := range p.Units {
		if u.Reuse && u.Observe {
			if seen == nil {
				seen = o.seen(p)
			}
			inputs[u.Name] = Inputs(p, seen, u.Name)
		}
	}
	return inputs
}

// WriteRules writes into the settings file what is proposed for units, except for notes, and returns the lines that
// were added. The error tells why not.
func (o *Observations) WriteRules(units []string) (added []string, err error) {
	var additions []edit.Addition
	for _, m := range o.Compare(units).Mismatches {
		if m.Severity == api.SeverityNote {
			continue
		}
		for _, e := range m.Edits {
			additions = append(additions, Addition(e))
			added = append(added, e.Unit+": "+e.Text)
		}
	}
	if len(additions) == 0 {
		return nil, fmt.Errorf("nothing is proposed for %s", format.List(units))
	}
	return added, edit.Extend(o.host.Plan(), additions)
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
