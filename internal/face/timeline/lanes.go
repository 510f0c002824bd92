package timeline

import (
	"sort"
	"strconv"
	"strings"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/text/format"
)

// Cell is one column of a lane: what a unit was doing.
type Cell struct {
	State api.State
	Stale bool
}

// weight is the priority of states when several share a column.
var weight = map[api.State]int{
	api.Idle: 0, Debounce: 1, api.Stopped: 1, api.Done: 2, api.Ready: 3, Queued: 3, api.Waiting: 4, api.Stopping: 5,
	api.Setup: 6, api.Starting: 7, api.Running: 8, api.Failed: 9, api.Crashed: 10,
}

// Lane is a unit's life on an axis.
type Lane struct {
	Cells  []Cell // one for each column; those after now are idle
	Labels []Label
}

// Label is a text of narrow characters at a column, over quiet cells.
type Label struct {
	Column int
	Text   string
}

// LaneOf returns a unit's life on an axis. After each run its duration is written, if the following quiet cells have
// room.
func LaneOf(marks []api.Mark, a Axis, now time.Time) Lane {
	l := Lane{Cells: cells(marks, a, now)}
	first := sort.Search(len(marks), func(i int) bool { return !marks[i].At.Before(a.Start) })
	for i := max(first, 1); i < len(marks); i++ {
		if label, fits := durationBehind(marks[i-1], marks[i], a, l.Cells); fits {
			l.Labels = append(l.Labels, label)
		}
	}
	return l
}

func cells(marks []api.Mark, a Axis, now time.Time) []Cell {
	out := make([]Cell, a.N)
	i := sort.Search(len(marks), func(i int) bool { return marks[i].At.After(a.Start) }) - 1
	for column := range out {
		out[column].State = api.Idle
		from, to := a.Time(column), a.Time(column+1)
		if from.After(now) {
			continue
		}
		for i+1 < len(marks) && !marks[i+1].At.After(from) {
			i++
		}
		c := &out[column]
		for j := max(i, 0); j < len(marks) && marks[j].At.Before(to); j++ {
			m := marks[j]
			if weight[m.State] >= weight[c.State] {
				c.State = m.State
			}
			c.Stale = m.Stale
		}
	}
	return out
}

func durationBehind(before, after api.Mark, a Axis, cells []Cell) (Label, bool) {
	if before.State != api.Running && before.State != api.Starting || after.State.Broken() {
		return Label{}, false
	}
	text := " " + strings.ReplaceAll(format.Duration(after.At.Sub(before.At)), " ", "") + " "
	from := a.At(after.At) + 1
	if from < 1 || from+a.letters(len(text)) > a.N {
		return Label{}, false
	}
	for k := from; k < from+a.letters(len(text)); k++ {
		if st := cells[k].State; st != api.Ready && st != api.Done {
			return Label{}, false // failures must not be covered
		}
	}
	return Label{from, text}, true
}

// Tick is a save on the axis, with its ripple's number if there is room before the next one.
type Tick struct {
	At     time.Time
	Column int
	Number string
	Newest bool
}

// Saves returns the saves on the axis.
func Saves(saves []api.Save, a Axis) []Tick {
	var ticks []Tick
	last := len(saves) - 1
	first := sort.Search(len(saves), func(i int) bool { return !saves[i].At.Before(a.Start) })
	for i := first; i <= last; i++ {
		t := Tick{At: saves[i].At, Column: a.At(saves[i].At), Newest: i == last}
		if !a.Has(t.Column) {
			continue
		}
		number := strconv.Itoa(saves[i].Ripple)
		if i == last || a.At(saves[i+1].At) > t.Column+1+a.letters(len(number)) {
			t.Number = number
		}
		ticks = append(ticks, t)
	}
	return ticks
}
