package plan

import (
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
)

// Difference is the meaning of an edit of the settings, unit by unit. Order and comments have no meaning.
type Difference struct {
	Added    []string
	Removed  []string
	Changed  []string // units that have to run again, because what runs has changed
	Adjusted []string // units for which only other settings have changed
	// Variables names the changed variables of env files, with their files, as in ".env: PORT and HOST". It never has
	// a value.
	Variables string
	Reasons   map[string]string // of units that changed only because of variables
}

// Reason tells why a changed unit has to run again.
func (d Difference) Reason(unit string) string {
	if r := d.Reasons[unit]; r != "" {
		return r
	}
	return "its settings changed"
}

// Empty reports whether the edit changes nothing.
func (d Difference) Empty() bool {
	return len(d.Added)+len(d.Removed)+len(d.Changed)+len(d.Adjusted) == 0
}

// Compare returns the difference between two plans.
func Compare(from, to *Plan) Difference {
	d := Difference{Reasons: map[string]string{}}
	var variables []Variable
	for _, u := range to.Units {
		before := from.Unit(u.Name)
		switch {
		case before == nil:
			d.Added = append(d.Added, u.Name)
		case !sameProgram(before, u):
			d.Changed = append(d.Changed, u.Name)
		case !sameSet(before.Env, u.Env):
			d.Changed = append(d.Changed, u.Name)
			if others, all := changedInFiles(before, u); all {
				d.Reasons[u.Name] = namedByFile(others) + " changed"
				variables = append(variables, others...)
			}
		case !sameCare(before, u):
			d.Adjusted = append(d.Adjusted, u.Name)
		}
	}
	for _, u := range from.Units {
		if to.Unit(u.Name) == nil {
			d.Removed = append(d.Removed, u.Name)
		}
	}
	d.Variables = namedByFile(variables)
	return d
}

// changedInFiles returns the changed variables of env files, and whether nothing else of the environment has changed.
func changedInFiles(a, b *Unit) (changed []Variable, all bool) {
	have := func(vars []Variable, v Variable) bool { return slices.Contains(vars, v) }
	for _, side := range [][2][]Variable{{a.Env, b.Env}, {b.Env, a.Env}} {
		for _, v := range side[0] {
			switch {
			case have(side[1], v):
			case v.File == "":
				return nil, false
			default:
				changed = append(changed, v)
			}
		}
	}
	return changed, true
}

// namedByFile names variables with their files, without their values: ".env: A and B".
func namedByFile(vars []Variable) string {
	byFile := map[string][]string{}
	for _, v := range vars {
		if !slices.Contains(byFile[v.File], v.Name) {
			byFile[v.File] = append(byFile[v.File], v.Name)
		}
	}
	var parts []string
	for _, file := range slices.Sorted(maps.Keys(byFile)) {
		names := byFile[file]
		slices.Sort(names)
		const few = 3
		if more := len(names) - few; more > 0 {
			names = append(names[:few:few], fmt.Sprintf("%d more", more))
		}
		parts = append(parts, file+": "+strings.Join(names, ", "))
	}
	return strings.Join(parts, "; ")
}

// sameProgram reports whether both run the same program in the same way, except for the environment.
func sameProgram(a, b *Unit) bool {
	return a.Kind == b.Kind && a.Observe == b.Observe && a.MayServe == b.MayServe && a.Run.Equal(b.Run) &&
		a.Dir == b.Dir &&
		reflect.DeepEqual(a.Pass, b.Pass) && sameRelay(a.Relay, b.Relay) &&
		slices.EqualFunc(a.Setup, b.Setup, sameStep) && slices.EqualFunc(a.Prelude, b.Prelude, sameStep) &&
		(!b.Kind.Ends() || sameReading(a, b))
}

// sameReading reports whether the output of both is read in the same way: the output of a task is not read again, so
// the task has to run.
func sameReading(a, b *Unit) bool {
	return a.Results == b.Results && a.Findings == b.Findings && a.FindingsFail == b.FindingsFail
}

// sameCare reports whether the other settings are the same, apart from locations in the file.
func sameCare(a, b *Unit) bool {
	return sameSet(a.Uses, b.Uses) && (a.Uses == nil) == (b.Uses == nil) &&
		sameSet(a.Needs, b.Needs) && sameSet(a.Follows, b.Follows) &&
		sameSet(Texts(a.Watch), Texts(b.Watch)) && sameSet(Texts(a.Ignore), Texts(b.Ignore)) &&
		slices.EqualFunc(a.Reactions, b.Reactions, sameReaction) &&
		a.Debounce == b.Debounce && a.Unignored == b.Unignored && a.SkipUnchanged == b.SkipUnchanged &&
		a.Poll == b.Poll &&
		reflect.DeepEqual(a.Ready, b.Ready) && reflect.DeepEqual(a.Stop, b.Stop) && a.Endpoint == b.Endpoint &&
		a.Overlap == b.Overlap && a.Limit == b.Limit && a.Health == b.Health && a.AfterExit == b.AfterExit &&
		a.Manual == b.Manual && a.Alone == b.Alone &&
		sameSet(Texts(a.Outputs), Texts(b.Outputs)) && a.Reuse == b.Reuse && a.KeepOutputs == b.KeepOutputs &&
		sameReading(
			a,
			b,
		) && a.Unstructured == b.Unstructured && reflect.DeepEqual(a.Narrow, b.Narrow) && a.Widen == b.Widen
}

func sameStep(a, b Step) bool {
	return a.Run.Equal(b.Run) && a.Dir == b.Dir && sameSet(Texts(a.Inputs), Texts(b.Inputs)) &&
		sameSet(Texts(a.Outputs), Texts(b.Outputs))
}

func sameReaction(a, b Reaction) bool {
	return a.When.Text == b.When.Text && a.Do == b.Do && a.Signal == b.Signal && reflect.DeepEqual(a.Run, b.Run)
}

func Texts(patterns []Pattern) []string {
	out := make([]string, len(patterns))
	for i, p := range patterns {
		out[i] = p.Text
	}
	return out
}

// sameSet compares lists in which the order does not matter, but repetitions do.
func sameSet[T comparable](a, b []T) bool {
	if len(a) != len(b) {
		return false
	}
	count := map[T]int{}
	for _, x := range a {
		count[x]++
	}
	for _, x := range b {
		if count[x]--; count[x] < 0 {
			return false
		}
	}
	return true
}

// sameRelay reports whether both serve the same. The files that refresh pages are not compared here.
func sameRelay(a, b *Relay) bool {
	if a == nil || b == nil {
		return a == b
	}
	x, y := *a, *b
	x.Refresh, y.Refresh = nil, nil
	return reflect.DeepEqual(x, y)
}
