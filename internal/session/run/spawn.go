package run

import (
	"errors"
	"fmt"
	"net/netip"
	"os"
	"regexp"
	"slices"
	"strings"
	"sync"

	"omnivigil/internal/api/otlp"
	"omnivigil/internal/engine"
	"omnivigil/internal/output/logbook"
	"omnivigil/internal/process"
	"omnivigil/internal/process/observe"
	"omnivigil/internal/process/probe"
	"omnivigil/internal/store/share"
)

// Spawner runs processes, as process.Spawner does.
type Spawner interface {
	Start(process.Spec) (Process, error)
	Holder(netip.AddrPort) (who string, taken bool)
	Listens(port int) bool
}

// Process is a running process with all its descendants.
type Process interface {
	ID() int
	LookAhead()                       // a signal that should end it will probably follow at once
	Working() bool                    // it is running or can run
	AllRead() bool                    // everything that it has written was passed to Output
	Signal(name string) error         // a signal that should end it
	SignalLeader(name string) error   // a signal that should not
	TypeEnd(text string) error        // into its terminal, to end it
	Type(text []byte) error           // into its terminal
	Answer(text []byte)               // its terminal's answer to a query
	Resize(cols, rows int) error      // its terminal
	Reading(far bool) process.Reading // how it reads what is typed
}

// System is the Spawner of the system.
type System struct{ *process.Spawner }

// Start implements Spawner.
func (s System) Start(spec process.Spec) (Process, error) {
	p, err := s.Spawner.Start(spec)
	if err != nil {
		return nil, err
	}
	return p, nil
}

// spawn spawns the run's own process and reports the result to the engine.
func (r *Live) spawn(o engine.Start) {
	if r.Unit.Ready.Line != "" {
		r.reading.Lock()
		r.line = regexp.MustCompile(r.Unit.Ready.Line) // plan.Read has compiled it before
		r.reading.Unlock()
	}
	if held := r.taken(); held != "" {
		r.notSpawned(o, held)
		return
	}
	prober := probe.New(r.Unit.Ready)
	spec := r.spec(o.Command.Plus(slices.Concat(o.Words, r.firstWords(o))))
	spec.Exited = func(x process.Exit) { r.exited(x) }
	spec.Again = r.Number > 1
	spawned := r.expectPasses()
	process, err := r.begin(spec, func(spec process.Spec) (Process, error) { return r.project.Begin(r, spec) })
	if err != nil {
		r.notSpawned(o, err.Error())
		return
	}
	r.have(process)
	go func() {
		r.project.Send(engine.Spawned{Unit: o.Unit, Run: o.Run, PID: process.ID()})
		r.tellPasses(spawned)
		close(r.announced)
		r.probe(prober)
	}()
}

// begin starts a process of the run, under observation if the run is observed. If that is not possible here, the run is
// not observed.
func (r *Live) begin(spec process.Spec, start func(process.Spec) (Process, error)) (Process, error) {
	spec.Observe = r.log
	p, err := start(spec)
	if !errors.Is(err, observe.ErrUnavailable) {
		return p, err
	}
	r.log = nil
	r.project.NotObserved(r.Unit.Name, err)
	reason := strings.TrimPrefix(err.Error(), observe.ErrUnavailable.Error()+": ")
	r.project.Note(r.Entry(logbook.Note), "is not observed: "+reason)
	spec.Observe = nil
	return start(spec)
}

// taken describes the other process that uses the address that the unit is known to need; empty: there is none.
func (r *Live) taken() string {
	var held []string
	for _, address := range r.Unit.Ports() {
		if who, taken := r.project.Spawner.Holder(address); taken {
			held = append(held, fmt.Sprintf("port %d is taken by %s", address.Port(), who))
		}
	}
	return strings.Join(held, "; ")
}

// ofTerminals are variables about the terminal in which the project was started. Units have their own terminals.
var ofTerminals = []string{
	"TERM",
	"TERM_PROGRAM",
	"TERM_PROGRAM_VERSION",
	"TMUX",
	"TMUX_PANE",
	"STY",
	"WINDOWID",
	"LINES",
	"COLUMNS",
}

// isNotForUnits reports whether a variable is about another terminal, or is a secret of the share.
func isNotForUnits(variable string) bool {
	name, _, _ := strings.Cut(variable, "=")
	return slices.Contains(ofTerminals, name) || strings.HasPrefix(name, share.Variables)
}

// forUnits is the machine's environment, as far as it is for units.
var forUnits = sync.OnceValue(func() []string {
	return append(slices.DeleteFunc(os.Environ(), isNotForUnits), "TERM=xterm-256color")
})

// environment is the machine's environment, overridden by the unit's variables.
func (r *Live) environment() []string {
	env := slices.Clone(forUnits())
	if session := r.project.Session; session != "" {
		env = append(env, "TRACEPARENT="+otlp.Parent(session, int(r.ripple.Load()), r.Unit.Name, r.Number))
	}
	for _, v := range r.Unit.Env {
		env = append(env, v.Name+"="+v.Value)
	}
	return append(env, "OMNIVIGIL_UNIT="+r.Unit.Name, fmt.Sprintf("OMNIVIGIL_RUN=%d", r.Number))
}

// NoTerminal is embedded by a process without a terminal.
type NoTerminal struct{}

var errNoTerminal = errors.New("it has no terminal")

// Type implements Process.
func (NoTerminal) Type([]byte) error { return errNoTerminal }

// TypeEnd implements Process.
func (NoTerminal) TypeEnd(string) error { return errNoTerminal }

// Answer implements Process.
func (NoTerminal) Answer([]byte) {}

// Resize implements Process.
func (NoTerminal) Resize(int, int) error { return nil }

// Reading implements Process.
func (NoTerminal) Reading(bool) process.Reading { return process.Reading{} }
