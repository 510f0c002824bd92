// Package recording writes down what an engine heard and ordered, and plays it
// again, so that a user's report can be turned into a test.
//
// # Format
//
// A recording is JSON lines. The first holds the plan: {"plan": {...}}. Each other
// line is one step: {"at": TIME, "event": NAME, "is": {...}, "orders": [TEXT...]},
// where NAME is the event's type in package engine, "is" its fields, and each
// order is written as in an account for people.
package recording

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"reflect"
	"slices"
	"time"

	"omnivigil/internal/engine"
	"omnivigil/internal/plan"
)

// kinds are the events that can be written down, by name.
var kinds = map[string]reflect.Type{}

func init() {
	for _, ev := range []engine.Event{
		engine.Begin{}, engine.Touched{}, engine.Change{}, engine.SettingUp{}, engine.Spawned{}, engine.NotSpawned{},
		engine.Unchanged{}, engine.Cleared{}, engine.BecameReady{}, engine.Probed{}, engine.Exited{}, engine.TimerFired{}, engine.Requested{},
		engine.NewPlan{}, engine.PlanBroken{},
	} {
		t := reflect.TypeOf(ev)
		kinds[t.Name()] = t
	}
}

type line struct {
	Plan   *plan.Plan      `json:"plan,omitempty"`
	At     time.Time       `json:"at,omitzero"`
	Event  string          `json:"event,omitempty"`
	Is     json.RawMessage `json:"is,omitempty"`
	Orders []string        `json:"orders,omitempty"`
}

// Recorder writes a recording. It is not safe for concurrent use.
type Recorder struct{ out *json.Encoder }

// NewRecorder begins a recording of an engine that was made for that plan.
func NewRecorder(w io.Writer, p *plan.Plan) (*Recorder, error) {
	r := &Recorder{json.NewEncoder(w)}
	return r, r.out.Encode(line{Plan: p})
}

// Step writes one step down.
func (r *Recorder) Step(now time.Time, ev engine.Event, orders []engine.Order) error {
	is, err := json.Marshal(ev)
	if err != nil {
		return fmt.Errorf("record %T: %w", ev, err)
	}
	return r.out.Encode(line{At: now, Event: reflect.TypeOf(ev).Name(), Is: is, Orders: texts(orders)})
}

func texts(orders []engine.Order) []string {
	out := make([]string, len(orders))
	for i, o := range orders {
		if arm, ok := o.(engine.SetTimer); ok {
			arm.At = arm.At.UTC() // a time that was read again has lost its zone's name
			o = arm
		}
		out[i] = fmt.Sprintf("%s %+v", reflect.TypeOf(o).Name(), o)
	}
	return out
}

// Replay plays a recording to a new engine and tells each step as it goes. The
// error names the first step at which the engine orders something else than it
// did, or the line that cannot be read.
func Replay(in io.Reader, tell func(now time.Time, event string, orders []string)) error {
	scanner := bufio.NewScanner(in)
	scanner.Buffer(nil, 64<<20) // a change may name a hundred thousand paths
	var e *engine.Engine
	for n := 1; scanner.Scan(); n++ {
		var l line
		if err := json.Unmarshal(scanner.Bytes(), &l); err != nil {
			return fmt.Errorf("line %d: %w", n, err)
		}
		switch {
		case n == 1 && l.Plan != nil:
			e = engine.New(l.Plan)
		case e == nil:
			return errors.New("line 1: no plan, so this is no recording")
		default:
			orders, err := replayStep(e, l)
			if err != nil {
				return fmt.Errorf("line %d: %w", n, err)
			}
			tell(l.At, l.Event+" "+string(l.Is), orders)
			if !slices.Equal(orders, l.Orders) {
				return fmt.Errorf("line %d: the engine orders something else: recorded was %q", n, l.Orders)
			}
		}
	}
	return scanner.Err()
}

func replayStep(e *engine.Engine, l line) ([]string, error) {
	kind, ok := kinds[l.Event]
	if !ok {
		return nil, fmt.Errorf("there is no event %q", l.Event)
	}
	ev := reflect.New(kind)
	if err := json.Unmarshal(l.Is, ev.Interface()); err != nil {
		return nil, fmt.Errorf("%s: %w", l.Event, err)
	}
	orders := e.Step(l.At, ev.Elem().Interface().(engine.Event))
	if len(orders) == 0 {
		return nil, nil
	}
	return texts(orders), nil
}
