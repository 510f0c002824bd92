// Package disk is the files of a made-up world: the contents of each unit's files, as the bursts that have really
// changed them, and the results of tasks. Start reading at Disk.
package disk

import (
	"fmt"
	"maps"
	"time"

	"omnivigil/internal/plan"
)

// Disk is what is on disk. It is for one goroutine.
type Disk struct {
	contents map[string]map[int]bool
	past     map[string][]map[int]bool // earlier contents
	writes   map[string]int
	results  map[string]*Result
	kept     map[string][]*Result // every good result of each task
	made     int
}

func New() Disk {
	return Disk{
		contents: map[string]map[int]bool{}, past: map[string][]map[int]bool{}, writes: map[string]int{},
		results: map[string]*Result{}, kept: map[string][]*Result{},
	}
}

// Result is what a task has made, and from what.
type Result struct {
	At      time.Time // when it was made
	serial  int
	command string
	inputs  map[int]bool
	ups     map[string]string
	writes  int // how often its files had been written
}

func (r *Result) sameAs(other *Result) bool {
	return r != nil && other != nil && r.command == other.command &&
		maps.Equal(r.inputs, other.inputs) && maps.Equal(r.ups, other.ups)
}

// Change changes a unit's files in a burst. Same: a write that leaves them the same is followed by another one that
// takes it back. Back: they become what they were at an earlier time, if there is one.
func (d *Disk) Change(unit string, burst int, same, back bool) {
	c, past := d.contents[unit], d.past[unit]
	d.past[unit] = append(past, maps.Clone(c))
	d.writes[unit]++
	if n := len(past); back && n > 0 {
		d.contents[unit] = maps.Clone(past[burst%n])
		return
	}
	if c == nil {
		c = map[int]bool{}
		d.contents[unit] = c
	}
	if same && c[burst] {
		delete(c, burst)
	} else {
		c[burst] = true
	}
}

// Holding identifies the contents of a unit's files.
func (d *Disk) Holding(unit string) string { return fmt.Sprint(d.contents[unit]) }

// Input returns what a run that begins now would use; nil: its result is not reused.
func (d *Disk) Input(p *plan.Plan, unit string) *Result {
	u := p.Unit(unit)
	if u == nil || !u.Reuse {
		return nil
	}
	r := &Result{
		command: u.Run.String(), inputs: maps.Clone(d.contents[unit]), writes: d.writes[unit], ups: map[string]string{},
	}
	for _, name := range u.Upstream() {
		r.ups[name] = d.resultOf(p.Unit(name))
	}
	return r
}

// resultOf identifies the current result of a unit.
func (d *Disk) resultOf(u *plan.Unit) string {
	switch made := d.results[u.Name]; {
	case made != nil:
		return fmt.Sprint(made.serial)
	case u.Kind.Ends() || u.Pass != nil:
		return d.Holding(u.Name)
	}
	return ""
}

// Last is the last result of a task, if that was good; otherwise nil.
func (d *Disk) Last(unit string) *Result { return d.results[unit] }

// Holds reports whether a task's last good result is from the current inputs.
func (d *Disk) Holds(p *plan.Plan, unit string) bool { return d.results[unit].sameAs(d.Input(p, unit)) }

// Earlier returns a good result of a task that is from the current inputs; nil: there is none.
func (d *Disk) Earlier(p *plan.Plan, unit string) *Result {
	now := d.Input(p, unit)
	for _, r := range d.kept[unit] {
		if r.sameAs(now) {
			return r
		}
	}
	return nil
}

// Restore makes a result of a task its last one.
func (d *Disk) Restore(unit string, r *Result) { d.results[unit] = r }

// Spoil removes the last result of a task: its outputs have changed.
func (d *Disk) Spoil(unit string) { delete(d.results, unit) }

// Finish stores what a good run of a task has made from an input, if nothing has changed meanwhile.
func (d *Disk) Finish(p *plan.Plan, unit string, input *Result, at time.Time) {
	if input.writes != d.writes[unit] || !input.sameAs(d.Input(p, unit)) {
		return
	}
	d.made++
	input.serial, input.At = d.made, at
	d.results[unit] = input
	d.kept[unit] = append(d.kept[unit], input)
}
