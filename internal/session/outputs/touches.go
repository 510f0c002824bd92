package outputs

import (
	"maps"
	"slices"
)

// Touches counts how often the outputs of units were touched since they were last looked at for a wait. Changes of
// outputs are reported a moment later than those of other files, and a wait must not be answered before. The zero value
// is ready for use.
type Touches struct {
	times  map[string]int         // by unit
	looked map[int]map[string]int // the same, when the look for a wait began
}

// Add counts a touch of a unit's outputs.
func (t *Touches) Add(unit string) {
	if t.times == nil {
		t.times, t.looked = map[string]int{}, map[int]map[string]int{}
	}
	t.times[unit]++
}

// Due returns the units whose outputs have to be looked at for a wait; none if that has been done. Those that are
// running are left out: their outputs are checked when their runs end.
func (t *Touches) Due(wait int, running func(unit string) bool) []string {
	seen, looked := t.looked[wait]
	delete(t.looked, wait)
	maps.DeleteFunc(t.times, func(unit string, times int) bool { return seen[unit] == times })
	units := slices.DeleteFunc(slices.Sorted(maps.Keys(t.times)), running)
	if looked || len(units) == 0 {
		return nil
	}
	t.looked[wait] = maps.Clone(t.times)
	return units
}
