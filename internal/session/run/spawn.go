package run

import (
	"errors"
	"fmt"
	"net/netip"
	"os"
	"regexp"
	"slices"
	"strings"

	"omnivigil/internal/engine"
	"omnivigil/internal/plan"
	"omnivigil/internal/process"
	"omnivigil/internal/process/probe"
)

// Spawner runs processes, as process.Spawner does.
type Spawner interface {
	Start(process.Spec) (Process, error)
	Holder(netip.AddrPort) (who string, taken bool)
}

// Process is one that runs, with all that it has started.
type Process interface {
	ID() int
	Working() bool                    // it is not waiting for anything
	AllRead() bool                    // all that it had written has been given to Output
	Signal(name string) error         // that is to end it
	SignalLeader(name string) error   // that is not
	TypeEnd(text string) error        // into its terminal, to end it
	Type(text []byte) error           // into its terminal
	Answer(text []byte)               // what its terminal answers it, as far as it reads that
	Resize(cols, rows int) error      // its terminal
	Reading(far bool) process.Reading // how it takes what is typed
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

// spawn spawns the run's own process and reports to the engine how that went.
func (r *Live) spawn(o engine.Start) {
	if r.Unit.Ready.Line != "" {
		r.reading.Lock()
		r.line = regexp.MustCompile(r.Unit.Ready.Line) // plan.Read has seen that it compiles
		r.reading.Unlock()
	}
	if held := r.taken(); held != "" {
		r.project.Send(engine.NotSpawned{Unit: o.Unit, Run: o.Run, Problem: held})
		return
	}
	prober := probe.New(r.Unit.Ready)
	spec := r.spec(o.Command.Plus(slices.Concat(o.Words, r.firstWords(o))))
	spec.Exited = func(x process.Exit) { r.exited(x) }
	spawned := r.expectPasses()
	process, err := r.project.Begin(r, spec)
	if err != nil {
		r.project.Send(engine.NotSpawned{Unit: o.Unit, Run: o.Run, Problem: err.Error()})
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

// taken says in words which address the unit is known to want is held by another process
// else, or "".
func (r *Live) taken() string {
	var held []string
	for _, address := range r.Unit.Ports() {
		if who, taken := r.project.Spawner.Holder(address); taken {
			held = append(held, fmt.Sprintf("port %d is taken by %s", address.Port(), who))
		}
	}
	return strings.Join(held, "; ")
}

// ofTerminals are variables that speak of the terminal in which the project was started. Units have
// terminals of their own.
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

func ofAnotherTerminal(variable string) bool {
	name, _, _ := strings.Cut(variable, "=")
	return slices.Contains(ofTerminals, name)
}

// environment is the machine's, with the unit's own variables above it.
func environment(u *plan.Unit, run int) []string {
	env := append(slices.DeleteFunc(os.Environ(), ofAnotherTerminal), "TERM=xterm-256color")
	for _, v := range u.Env {
		env = append(env, v.Name+"="+v.Value)
	}
	return append(env, "OMNIVIGIL_UNIT="+u.Name, fmt.Sprintf("OMNIVIGIL_RUN=%d", run))
}

// NoTerminal is what a process embeds that has no terminal.
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
