package api

import (
	"maps"
	"slices"
	"time"
)

// Update is the difference between two snapshots; what has not changed is missing.
type Update struct {
	Number  int64           `json:"number"`
	At      time.Time       `json:"at"`
	Project *About          `json:"project,omitempty"`
	Verdict *Verdict        `json:"verdict,omitempty"`
	Doubts  []Doubt         `json:"doubts,omitempty"`
	Sure    bool            `json:"sure,omitempty"`  // there are no more doubts
	Order   []string        `json:"order,omitempty"` // the names of all units, if they have changed
	Units   []*Unit         `json:"units,omitempty"` // the changed ones, without their marks
	Lives   map[string]Life `json:"lives,omitempty"` // the changed ones, by unit
	Ripples []*Ripple       `json:"ripples,omitempty"`
	Oldest  int             `json:"oldest,omitempty"` // the number of the oldest ripple that is kept, if it has changed
	Saves   []Save          `json:"saves,omitempty"`  // the new ones
	Resaved bool            `json:"resaved,omitempty"`
	Uses    map[string]Use  `json:"uses,omitempty"` // empty values were removed
	Asks    map[string]Ask  `json:"asks,omitempty"` // those without a kind were removed
	Faces   []Face          `json:"faces,omitempty"`
	Alone   bool            `json:"alone,omitempty"` // the last face was detached
	Jobs    *Jobs           `json:"jobs,omitempty"`
	Status  *Status         `json:"status,omitempty"`
}

// Life replaces a unit's marks from a time on.
type Life struct {
	From  time.Time `json:"from,omitzero"` // zero: all
	Marks []Mark    `json:"marks"`
}

// Diff returns the difference between two snapshots of one session. The result must not be changed.
func Diff(from, to *Snapshot) *Update {
	if to.change.update != nil && to.change.since == from.Number {
		return to.change.update
	}
	d := &Update{Number: to.Number, At: to.At}
	if !sameProject(&from.Project, &to.Project) {
		d.Project = &to.Project
	}
	if from.Verdict != to.Verdict {
		d.Verdict = &to.Verdict
	}
	if !slices.Equal(from.Doubts, to.Doubts) {
		d.Doubts, d.Sure = to.Doubts, len(to.Doubts) == 0
	}
	if from.Status != to.Status {
		d.Status = &to.Status
	}
	if !sameJobs(from.Jobs, to.Jobs) {
		d.Jobs = &to.Jobs
	}
	if !slices.Equal(from.Faces, to.Faces) {
		d.Faces, d.Alone = to.Faces, len(to.Faces) == 0
	}
	d.diffUnits(from, to)
	d.diffRipples(from, to)
	d.diffSaves(from.Saves, to.Saves)
	d.Uses = diffOf(from.Uses, to.Uses, sameUse)
	d.Asks = diffOf(from.Asks, to.Asks, sameAsk)
	return d
}

func sameProject(a, b *About) bool {
	return a.Name == b.Name && a.File == b.File && a.Root == b.Root && a.Session == b.Session && a.Logs == b.Logs &&
		a.Supervisor == b.Supervisor && a.Watchdog == b.Watchdog &&
		maps.EqualFunc(a.Groups, b.Groups, func(x, y []string) bool { return slices.Equal(x, y) })
}

func sameJobs(a, b Jobs) bool {
	return a.Most == b.Most && a.Now == b.Now && a.Taken == b.Taken && a.Text == b.Text && a.Alone == b.Alone &&
		slices.Equal(a.By, b.By)
}

func (d *Update) diffUnits(from, to *Snapshot) {
	same := len(from.Units) == len(to.Units)
	for i := 0; same && i < len(to.Units); i++ {
		same = from.Units[i].Name == to.Units[i].Name
	}
	before := func(i int) *Unit { return from.Units[i] }
	if !same {
		byName := map[string]*Unit{}
		for _, u := range from.Units {
			byName[u.Name] = u
		}
		before = func(i int) *Unit { return byName[to.Units[i].Name] }
		d.Order = make([]string, len(to.Units))
		for i, u := range to.Units {
			d.Order[i] = u.Name
		}
	}
	for i, u := range to.Units {
		old := before(i)
		if old == u {
			continue
		}
		short := *u
		short.Marks = nil
		d.Units = append(d.Units, &short)
		var marks []Mark
		if old != nil {
			marks = old.Marks
		}
		if life, changed := lifeSince(marks, u.Marks); changed {
			if d.Lives == nil {
				d.Lives = map[string]Life{}
			}
			d.Lives[u.Name] = life
		}
	}
}

// lifeSince returns how a unit's life has continued. Lives grow at the end; sometimes the oldest marks are dropped,
// which another holder need not do at the same time.
func lifeSince(old, now []Mark) (Life, bool) {
	if len(old) == 0 {
		return Life{Marks: now}, len(now) > 0
	}
	last := old[len(old)-1]
	for i := len(now) - 1; i >= 0; i-- {
		if now[i].At.Equal(last.At) && now[i].State == last.State && now[i].Stale == last.Stale &&
			now[i].Run == last.Run {
			if i == len(now)-1 {
				return Life{}, false
			}
			// Marks of the same time are reported together.
			from := i + 1
			for from > 0 && now[from-1].At.Equal(now[i+1].At) {
				from--
			}
			if from > 0 && now[from].At.Before(now[from-1].At) { // the clock was set back
				return Life{Marks: now}, true
			}
			return Life{From: now[from].At, Marks: now[from:]}, true
		}
		if now[i].At.Before(last.At) {
			break
		}
	}
	return Life{Marks: now}, true
}

func (d *Update) diffRipples(from, to *Snapshot) {
	known := map[int]*Ripple{}
	for _, r := range from.Ripples {
		known[r.ID] = r
	}
	for _, r := range to.Ripples {
		if known[r.ID] != r {
			d.Ripples = append(d.Ripples, r)
		}
	}
	if len(to.Ripples) > 0 && (len(from.Ripples) == 0 || from.Ripples[0].ID != to.Ripples[0].ID) {
		d.Oldest = to.Ripples[0].ID
	}
}

func (d *Update) diffSaves(from, to []Save) {
	same := func(a, b Save) bool { return a.Ripple == b.Ripple && a.At.Equal(b.At) }
	if n := len(from); n <= len(to) && (n == 0 || same(from[0], to[0]) && same(from[n-1], to[n-1])) {
		d.Saves = to[n:]
		return
	}
	d.Saves, d.Resaved = to, true // the oldest were dropped
}

// diffOf returns the difference of two maps by unit; a removed entry is there as its zero value.
func diffOf[V any](from, to map[string]V, same func(a, b V) bool) map[string]V {
	var changed map[string]V
	set := func(unit string, v V) {
		if changed == nil {
			changed = map[string]V{}
		}
		changed[unit] = v
	}
	for unit, v := range to {
		if old, known := from[unit]; !known || !same(old, v) {
			set(unit, v)
		}
	}
	for unit := range from {
		if _, there := to[unit]; !there {
			var gone V
			set(unit, gone)
		}
	}
	return changed
}

// after returns a map by unit with a difference applied.
func after[V any](kept, changes map[string]V, same func(a, b V) bool) map[string]V {
	if len(changes) == 0 {
		return kept
	}
	next := maps.Clone(kept)
	if next == nil {
		next = map[string]V{}
	}
	var gone V
	for unit, v := range changes {
		if same(v, gone) {
			delete(next, unit)
		} else {
			next[unit] = v
		}
	}
	return next
}

func sameAsk(a, b Ask) bool { return a.Kind == b.Kind && a.Text == b.Text && a.Since.Equal(b.Since) }

func sameUse(a, b Use) bool {
	return a.CPU == b.CPU && a.Memory == b.Memory && a.Requests == b.Requests && a.Failed == b.Failed &&
		a.Pages == b.Pages &&
		slices.Equal(a.Addresses, b.Addresses)
}

// Apply returns the next snapshot, and does not change the one before.
func (s *Snapshot) Apply(d *Update) *Snapshot {
	next := *s
	next.Number, next.At = d.Number, d.At
	if d.Project != nil {
		next.Project = *d.Project
	}
	if d.Verdict != nil {
		next.Verdict = *d.Verdict
	}
	if d.Doubts != nil || d.Sure {
		next.Doubts = d.Doubts
	}
	if d.Status != nil {
		next.Status = *d.Status
	}
	if d.Jobs != nil {
		next.Jobs = *d.Jobs
	}
	if d.Faces != nil || d.Alone {
		next.Faces = d.Faces
	}
	next.Units = s.unitsAfter(d)
	next.Ripples = s.ripplesAfter(d)
	switch {
	case d.Resaved:
		next.Saves = d.Saves
	case len(d.Saves) > 0:
		next.Saves = slices.Concat(s.Saves, d.Saves)
	}
	next.Uses = after(s.Uses, d.Uses, sameUse)
	next.Asks = after(s.Asks, d.Asks, sameAsk)
	return &next
}

func (s *Snapshot) unitsAfter(d *Update) []*Unit {
	if len(d.Units) == 0 && d.Order == nil {
		return s.Units
	}
	byName := make(map[string]*Unit, len(s.Units))
	for _, u := range s.Units {
		byName[u.Name] = u
	}
	for _, u := range d.Units {
		if u == nil {
			continue
		}
		whole := *u
		if old := byName[u.Name]; old != nil {
			whole.Marks = old.Marks
		}
		if life, ok := d.Lives[u.Name]; ok {
			whole.Marks = livesOn(whole.Marks, life)
		}
		byName[u.Name] = &whole
	}
	order := d.Order
	if order == nil {
		units := make([]*Unit, len(s.Units))
		for i, u := range s.Units {
			units[i] = byName[u.Name]
		}
		return units
	}
	units := make([]*Unit, 0, len(order))
	for _, name := range order {
		if u := byName[name]; u != nil {
			units = append(units, u)
		}
	}
	return units
}

// maxMarks is how many marks of a unit a face keeps.
const maxMarks = 20000

func livesOn(marks []Mark, life Life) []Mark {
	if life.From.IsZero() {
		return life.Marks
	}
	n := len(marks)
	for n > 0 && !marks[n-1].At.Before(life.From) {
		n--
	}
	if n > maxMarks {
		marks, n = marks[n-maxMarks/2:n], maxMarks/2
	}
	return slices.Concat(marks[:n], life.Marks)
}

func (s *Snapshot) ripplesAfter(d *Update) []*Ripple {
	if len(d.Ripples) == 0 && d.Oldest == 0 {
		return s.Ripples
	}
	out := slices.Clone(s.Ripples)
	for _, r := range d.Ripples {
		if r == nil {
			continue
		}
		i, known := slices.BinarySearchFunc(out, r.ID, func(r *Ripple, id int) int { return r.ID - id })
		if known {
			out[i] = r
		} else {
			out = slices.Insert(out, i, r)
		}
	}
	if d.Oldest > 0 {
		out = slices.DeleteFunc(out, func(r *Ripple) bool { return r.ID < d.Oldest })
	}
	return out
}

// IsEmpty reports whether only the snapshot's number and time have changed.
func (d *Update) IsEmpty() bool {
	return d.Project == nil && d.Verdict == nil && d.Doubts == nil && !d.Sure && d.Order == nil &&
		len(d.Units) == 0 && len(d.Ripples) == 0 && d.Oldest == 0 && len(d.Saves) == 0 && !d.Resaved &&
		len(d.Uses) == 0 && len(d.Asks) == 0 && d.Faces == nil && !d.Alone && d.Jobs == nil && d.Status == nil
}

// change is the difference from the snapshot with a number, in the same session.
type change struct {
	since  int64
	update *Update
}

// Follows reports whether a snapshot differs from an earlier one of its session in more than its number and time. The
// difference is kept with it, so that Diff need not compare the two again for each face. It must be called before the
// snapshot is published.
func (s *Snapshot) Follows(before *Snapshot) bool {
	s.change = change{}
	d := Diff(before, s)
	s.change = change{before.Number, d}
	return !d.IsEmpty()
}
