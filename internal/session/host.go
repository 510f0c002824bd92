package session

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/engine"
	"omnivigil/internal/output/logbook"
	"omnivigil/internal/output/redact"
	"omnivigil/internal/plan"
	"omnivigil/internal/process"
	"omnivigil/internal/process/observe"
	"omnivigil/internal/results"
	"omnivigil/internal/session/impact"
	"omnivigil/internal/session/outputs"
	"omnivigil/internal/session/run"
	"omnivigil/internal/store/contents"
	store "omnivigil/internal/store/history"
)

// host is the session as its parts see it.
type host struct{ s *Session }

// project is what the session's runs share.
func (s *Session) project() *run.Project {
	return &run.Project{
		Host: host{s}, Root: s.root, Marks: s.marks, Spawner: s.spawner, Book: s.book,
		Setup: s.setup, Results: s.results, Tracked: s.trackers, Stopped: s.stopped, Session: s.traced,
	}
}

func (h host) Send(ev engine.Event)              { h.s.send(ev) }
func (h host) Say(e logbook.Entry, f api.Fact)   { h.s.say(e, f) }
func (h host) Note(e logbook.Entry, text string) { h.s.note(e, text) }
func (h host) Moment(t time.Time) engine.Moment  { return h.s.moment(t) }
func (h host) Plan() *plan.Plan                  { return h.s.Plan() }
func (h host) Hidden() *redact.Mask              { return h.s.hidden.Load() }
func (h host) Clean(text string) string          { return h.s.clean(text) }
func (h host) Wrote(unit string, n int)          { h.s.wrote(unit, n) }
func (h host) Attach(r *run.Live)                { h.s.terminals.Attach(r) }
func (h host) Asks(r *run.Live, ask api.Ask)     { h.s.terminals.Asks(r, ask) }
func (h host) Newest(u *plan.Unit) time.Time {
	return outputs.Newest(h.s.Plan(), u, h.s.paths(u.Name), h.s.ownFolder)
}
func (h host) Made(u *plan.Unit, run int) time.Time { return h.s.madeWell(u, run).Oldest() }
func (h host) Affecting(unit string) []string       { return h.s.paths(unit) }
func (h host) Sum(file string) (contents.Sum, bool) { return h.s.results.Sum(file) }
func (h host) KeepChange(c store.Change) {
	if h.s.history != nil {
		h.s.history.Changed(c)
	}
}

func (h host) Lines(unit string, run, most int) (lines []string) {
	page, err := h.s.Lines(context.Background(), api.LineQuery{
		Filter: fmt.Sprintf("unit=%s run=%d", unit, run), Last: true, Count: most, Raw: true,
	})
	if err == nil {
		for _, l := range page.Lines {
			if l.Stream == api.Output {
				lines = append(lines, l.Text)
			}
		}
	}
	return lines
}

func (h host) Left(u *plan.Unit) { h.s.outputs.NoteLeft(u.Name, outputs.List(h.s.Plan(), u)) }
func (h host) Reused(u *plan.Unit, run int) {
	h.s.outputs.Note(u.Name, run, outputs.List(h.s.Plan(), u))
	time.AfterFunc(impact.OutputsRest, func() { h.s.outputsGone(u.Name) }) // they may have been removed meanwhile
}

func (h host) Begin(r *run.Live, spec process.Spec) (run.Process, error) {
	if r.Unit.Relay != nil {
		return h.s.pages.Start(r, spec)
	}
	return h.s.spawner.Start(spec)
}

func (h host) Opened(unit string, at netip.AddrPort) { h.s.opened(unit, at) }
func (h host) Address(u *plan.Unit) netip.AddrPort   { return h.s.addressOf(u) }

func (h host) Explain(unit string, run, most int) (lines []string, findings []api.Finding) {
	page, err := h.s.Lines(context.Background(), api.LineQuery{Unit: unit, Run: run, Why: true, Count: most})
	if err == nil {
		for _, l := range page.Lines {
			lines = append(lines, l.Text)
		}
	}
	found, err := h.s.Findings(context.Background(), api.ResultQuery{Units: []string{unit}, Only: "error", Count: most})
	if err == nil {
		findings = found.Findings
	}
	return lines, findings
}

func (h host) Observe(u *plan.Unit, run int) (log *observe.Log, requested bool) {
	return h.s.observations.Begin(u, run), h.s.observations.Asked(u.Name)
}

func (h host) NotObserved(unit string, why error) { h.s.observations.Failed(unit, why) }

func (h host) Ended(u *plan.Unit) {
	if err := h.s.observations.Keep(u); err != nil {
		h.s.Note("what was observed will not be known next time: " + err.Error())
	}
}

func (h host) Tested(u *plan.Unit, run int, began time.Time, same bool, cases []results.Case) {
	if h.s.history != nil {
		h.s.history.Tested(u, run, began, same, cases)
	}
}

func (h host) Written(unit string) int64 { return h.s.written(unit) }

func (h host) Load() (others int, known bool) {
	if h.s.tracer == nil {
		return 0, false
	}
	_, others, known = h.s.tracer.Load(true)
	return others, known
}

func (h host) Subscribe(ctx context.Context, since int64, hear func(api.Fact) error) error {
	return h.s.Subscribe(ctx, since, hear)
}
func (h host) Snapshot(ctx context.Context) (*api.Snapshot, error) { return h.s.Snapshot(ctx) }
func (h host) Findings(ctx context.Context, q api.ResultQuery) (api.FindingPage, error) {
	return h.s.Findings(ctx, q)
}

func (h host) State() *engine.Snapshot            { return h.s.state() }
func (h host) Changed() (<-chan struct{}, func()) { return h.s.Changed() }
func (h host) Notify()                            { h.s.notify() }
func (h host) Time(m engine.Moment) time.Time     { return h.s.time(m) }
func (h host) Stopped() <-chan struct{}           { return h.s.stopped }
func (h host) Done() <-chan struct{}              { return h.s.done }
func (h host) Deserted() bool {
	h.s.showing.mu.Lock()
	defer h.s.showing.mu.Unlock()
	return h.s.showing.isDeserted()
}

func (h host) InDoubt(unit string) bool {
	return slices.ContainsFunc(h.s.state().Doubts, func(d engine.Doubt) bool {
		return d.Unit == unit && d.Kind != engine.DoubtOutput && d.Kind != engine.DoubtNeed
	})
}
