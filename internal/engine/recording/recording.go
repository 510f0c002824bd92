// Package recording records the events and orders of an engine and replays them, so that a user's report can become a
// test. Start reading at Recorder and Replay.
//
// # Format
//
// A recording is JSON lines. The first one has the plan: {"note": TEXT, "plan": {...}}. In it, the values of
// variables are hashes that are specific to this recording; commands, addresses and results of probes are unchanged,
// without secret values. Each other line is one step: {"at": TIME, "after": NANOSECONDS, "event": NAME, "is": {...},
// "orders": [TEXT...]}, where "after" is the time since the start of the session on the steady clock, NAME is the
// event's type in package engine, "is" its fields, and each order is a text for people.
package recording

import (
	"bufio"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"reflect"
	"slices"
	"time"

	"omnivigil/internal/engine"
	"omnivigil/internal/engine/explain"
	"omnivigil/internal/plan"
)

// kinds are the events, by name.
var kinds = map[string]reflect.Type{}

func init() {
	for _, ev := range []engine.Event{
		engine.Begin{}, engine.Touched{}, engine.Change{}, engine.SettingUp{}, engine.Spawned{}, engine.NotSpawned{},
		engine.Unchanged{}, engine.Observed{}, engine.BecameReady{}, engine.Listens{}, engine.Probed{},
		engine.Checked{}, engine.Asks{}, engine.Exited{}, engine.Reported{}, engine.TimerFired{},
		engine.Requested{}, engine.PassBegan{}, engine.Reused{}, engine.PassEnded{},
		engine.SettingsTouched{}, engine.NewPlan{}, engine.PlanBroken{}, engine.Unwatched{}, engine.OutputsGone{},
		engine.OutputChanged{}, engine.Uncovered{}, engine.Surveyed{},
	} {
		t := reflect.TypeOf(ev)
		kinds[t.Name()] = t
	}
}

type line struct {
	Note   string          `json:"note,omitempty"`
	Plan   *plan.Plan      `json:"plan,omitempty"`
	At     time.Time       `json:"at,omitzero"`
	After  time.Duration   `json:"after,omitempty"`
	Event  string          `json:"event,omitempty"`
	Is     json.RawMessage `json:"is,omitempty"`
	Orders []string        `json:"orders,omitempty"`
}

// Recorder writes a recording. It is not safe for concurrent use.
type Recorder struct {
	out *json.Encoder
	key []byte // for the hashes
}

// note tells what is in a recording, for users who are about to send one.
const note = "This recording has the names of files, commands, addresses and what readiness probes saw. " +
	"Values of environment variables stand as hashes; values that are secret are hidden."

// NewRecorder begins a recording of an engine that was created for a plan.
func NewRecorder(w io.Writer, p *plan.Plan) (*Recorder, error) {
	r := &Recorder{out: json.NewEncoder(w), key: make([]byte, 32)}
	if _, err := rand.Read(r.key); err != nil {
		return nil, err
	}
	return r, r.out.Encode(line{Note: note, Plan: r.withoutValues(p)})
}

// withoutValues returns a plan with hashed values of variables; equal values have equal hashes.
func (r *Recorder) withoutValues(p *plan.Plan) *plan.Plan {
	out := *p
	out.Units = make([]*plan.Unit, len(p.Units))
	for i, u := range p.Units {
		c := *u
		c.Env, c.OwnEnv = r.hashed(u.Env), nil
		c.Run = r.asWritten(u.Run)
		c.Setup, c.Prelude = r.steps(u.Setup), r.steps(u.Prelude)
		out.Units[i] = &c
	}
	return &out
}

func (r *Recorder) hashed(vars []plan.Variable) []plan.Variable {
	out := slices.Clone(vars)
	for i := range out {
		out[i].Value = r.hash(out[i].Value)
	}
	return out
}

func (r *Recorder) hash(text string) string {
	h := hmac.New(sha256.New, r.key)
	h.Write([]byte(text))
	return hex.EncodeToString(h.Sum(nil)[:8])
}

// asWritten hashes the words of a command that contain values of variables.
func (r *Recorder) asWritten(c plan.Command) plan.Command {
	if c.Written == nil {
		return c
	}
	words := slices.Clone(c.Words)
	for i := range words {
		if words[i] != c.Written[i] {
			words[i] = r.hash(words[i])
		}
	}
	return plan.Command{Words: words, Written: c.Written}
}

func (r *Recorder) steps(steps []plan.Step) []plan.Step {
	out := slices.Clone(steps)
	for i := range out {
		out[i].Run = r.asWritten(out[i].Run)
	}
	return out
}

// Step records one step.
func (r *Recorder) Step(now engine.Moment, ev engine.Event, orders []engine.Order) error {
	if edit, ok := ev.(engine.NewPlan); ok {
		edit.Plan = r.withoutValues(edit.Plan)
		ev = edit
	}
	is, err := json.Marshal(ev)
	if err != nil {
		return fmt.Errorf("record %T: %w", ev, err)
	}
	return r.out.Encode(
		line{At: now.Wall, After: now.Steady, Event: reflect.TypeOf(ev).Name(), Is: is, Orders: texts(orders)},
	)
}

func texts(orders []engine.Order) []string {
	out := make([]string, len(orders))
	for i, o := range orders {
		out[i] = explain.Order(o)
	}
	return out
}

// Played is one replayed step of a recording.
type Played struct {
	At     time.Time
	Event  string // the event in words
	Orders []string
	Engine *engine.Engine // after the step; the next step uses it, too
	Plan   *plan.Plan     // at the beginning
}

// Replay replays a recording with a new engine and reports each step. The error names the first step in which the
// engine's orders differ, or the line that cannot be read.
func Replay(in io.Reader, tell func(Played)) error {
	scanner := bufio.NewScanner(in)
	scanner.Buffer(nil, 64<<20) // a change may have a hundred thousand paths
	var e *engine.Engine
	var p *plan.Plan
	for n := 1; scanner.Scan(); n++ {
		var l line
		if err := json.Unmarshal(scanner.Bytes(), &l); err != nil {
			return fmt.Errorf("line %d: %w", n, err)
		}
		switch {
		case n == 1 && l.Plan != nil:
			p = l.Plan
			e = engine.New(p)
		case e == nil:
			return errors.New("line 1: it has no plan, so this is not a recording")
		default:
			orders, err := replayStep(e, l)
			if err != nil {
				return fmt.Errorf("line %d: %w", n, err)
			}
			tell(Played{l.At, l.Event + " " + string(l.Is), orders, e, p})
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
	orders := e.Step(engine.Moment{Wall: l.At, Steady: l.After}, ev.Elem().Interface().(engine.Event))
	if len(orders) == 0 {
		return nil, nil
	}
	return texts(orders), nil
}
