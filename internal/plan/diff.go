package plan

import (
	"reflect"
	"slices"
)

// Difference is what an edit of the settings means, unit by unit. Order and
// comments mean nothing.
type Difference struct {
	Added    []string
	Removed  []string
	Changed  []string // what runs is another thing: they have to run again
	Adjusted []string // how they are looked after is different; what runs is not
	// Variables names the variables of env files that are others, with their files, as
	// in ".env: PORT and HOST". It never has a value.
	Variables string
	reasons   map[string]string // of those that changed for variables alone
}

// Reason says why a changed unit has to run again.
func (d Difference) Reason(unit string) string {
	if r := d.reasons[unit]; r != "" {
		return r
	}
	return "its settings changed"
}

// Empty reports whether the edit means nothing.
func (d Difference) Empty() bool {
	return len(d.Added)+len(d.Removed)+len(d.Changed)+len(d.Adjusted) == 0
}

// Compare returns what it means to go from one plan to another.
func Compare(from, to *Plan) Difference {
	var d Difference
	for _, u := range to.Units {
		before := from.Unit(u.Name)
		switch {
		case before == nil:
			d.Added = append(d.Added, u.Name)
		case !sameProcess(before, u):
			d.Changed = append(d.Changed, u.Name)
		case !sameCare(before, u):
			d.Adjusted = append(d.Adjusted, u.Name)
		}
	}
	for _, u := range from.Units {
		if to.Unit(u.Name) == nil {
			d.Removed = append(d.Removed, u.Name)
		}
	}
	return d
}

// sameProcess reports whether both run the same program in the same way.
func sameProcess(a, b *Unit) bool {
	return a.Kind == b.Kind && reflect.DeepEqual(a.Run, b.Run) && a.Dir == b.Dir && sameSet(a.Env, b.Env) &&
		slices.EqualFunc(a.Setup, b.Setup, sameStep) && slices.EqualFunc(a.Prelude, b.Prelude, sameStep)
}

// sameCare reports whether both are looked after in the same way. The places of
// things in the file do not count.
func sameCare(a, b *Unit) bool {
	return sameSet(a.Needs, b.Needs) && sameSet(a.Follows, b.Follows) &&
		sameSet(texts(a.Watch), texts(b.Watch)) && sameSet(texts(a.Ignore), texts(b.Ignore)) &&
		slices.EqualFunc(a.Reactions, b.Reactions, sameReaction) &&
		a.Debounce == b.Debounce && a.Unignored == b.Unignored && a.SkipUnchanged == b.SkipUnchanged && a.Poll == b.Poll &&
		reflect.DeepEqual(a.Ready, b.Ready) && reflect.DeepEqual(a.Stop, b.Stop) && a.Endpoint == b.Endpoint &&
		a.Overlap == b.Overlap && a.AfterExit == b.AfterExit && a.Manual == b.Manual
}

func sameStep(a, b Step) bool {
	return reflect.DeepEqual(a.Run, b.Run) && sameSet(texts(a.Inputs), texts(b.Inputs))
}

func sameReaction(a, b Reaction) bool {
	return a.When.Text == b.When.Text && a.Do == b.Do && a.Signal == b.Signal && reflect.DeepEqual(a.Run, b.Run)
}

func texts(patterns []Pattern) []string {
	out := make([]string, len(patterns))
	for i, p := range patterns {
		out[i] = p.Text
	}
	return out
}

// sameSet compares lists whose order means nothing.
func sameSet[T comparable](a, b []T) bool {
	if len(a) != len(b) {
		return false
	}
	for _, x := range a {
		if !slices.Contains(b, x) {
			return false
		}
	}
	return true
}
