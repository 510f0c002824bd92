package session

import (
	"strconv"
	"strings"

	"omnivigil/internal/api"
	"omnivigil/internal/engine"
	"omnivigil/internal/engine/explain"
	"omnivigil/internal/plan"
	"omnivigil/internal/session/impact"
	"omnivigil/internal/text/escape"
)

// What leaves the session is made here of what the engine and the log have: plain values
// with text names, in which secrets are hidden and nothing acts on a terminal.

// clean returns text as it may be shown: others wrote what is in it.
func (s *Session) clean(text string) string {
	if text == "" {
		return ""
	}
	return escape.Lines(s.hidden.Load().String(text))
}

func (s *Session) cleanAll(texts []string) []string {
	if len(texts) == 0 {
		return nil
	}
	out := make([]string, len(texts))
	for i, text := range texts {
		out[i] = s.clean(text)
	}
	return out
}

// tones are the words for an engine's and a log's tones, which are the same.
var tones = [...]api.Tone{"", api.ToneCurrent, api.ToneMoving, api.ToneStale, api.ToneBroken}

func (s *Session) unit(u *engine.Unit, p *plan.Plan) *api.Unit {
	out := &api.Unit{
		Name:      u.Name,
		Kind:      u.Kind.String(),
		State:     api.State(u.State.String()),
		Freshness: api.Freshness(u.Freshness.String()),
		Why:       s.clean(explain.Why(u)),
		Wanted:    u.Wanted,
		Paused:    u.Paused,
		Words:     s.cleanAll(u.Words),
		Narrowed:  s.clean(u.Narrowed),
		Report:    s.report(u.Report),
		Moving:    u.Moving,
		Queued:    u.Queued,
		InLine:    u.InLine,
		Alone:     u.Alone,
		RetryAt:   u.RetryAt.Wall,
		Run:       s.run(u.Run),
		Suspects:  s.cleanAll(u.Suspects),
		Owed:      s.cleanAll(u.Owed),
		Pass: api.Pass{
			Number:  u.Pass.Number,
			BeganAt: u.Pass.BeganAt.Wall,
			EndedAt: u.Pass.EndedAt.Wall,
			Good:    u.Pass.Good,
			Saw:     s.clean(u.Pass.Saw),
		},
		Loop: s.loopOf(u.Loop),
	}
	if spec := p.Unit(u.Name); spec != nil {
		out.Command, out.Needs, out.Follows = s.clean(spec.Run.String()), spec.Needs, spec.Follows
		if spec.Relay != nil {
			out.Needs = spec.Relay.Backends()
			out.Command = s.clean(spec.Relay.String())
		}
		out.Dir, out.AsWritten = s.clean(spec.Dir), spec.Unstructured
	}
	return out
}

func (s *Session) report(r engine.Report) api.Report {
	counts := r.Counts
	counts.Running, counts.Names, counts.First = s.clean(r.Running), s.cleanAll(r.Names), s.clean(r.First)
	return api.Report{
		Counts: counts, FailedAt: r.FailedAt, Usual: api.Seconds(r.Usual), Text: explain.Totals(r), Trouble: s.clean(explain.Report(r)),
	}
}

// marks goes on with what was made of a unit's marks before: lives grow at their end, and
// once in a while forget their beginning. A holder of what was made before does not see
// what is appended to it.
func marks(made []api.Mark, of, now []engine.Mark) []api.Mark {
	if n := len(of); n == 0 || n > len(now) || of[0] != now[0] || of[n-1] != now[n-1] {
		made = nil
	}
	for _, m := range now[len(made):] {
		made = append(made, api.Mark{At: m.At.Wall, State: api.State(m.State.String()), Stale: m.Stale, Run: m.Run})
	}
	return made
}

func (s *Session) run(r engine.Run) api.Run {
	out := api.Run{
		Number:    r.Number,
		Because:   s.clean(explain.Reasons(r.Reasons)),
		Command:   s.clean(r.Command),
		Ripples:   r.Ripples,
		PID:       r.PID,
		OrderedAt: r.OrderedAt.Wall,
		ReadyAt:   r.ReadyAt.Wall,
		EndedAt:   r.EndedAt.Wall,
		ReusedAt:  r.Reused,
		Problem:   s.clean(explain.Problem(r.Problem)),
		Spans:     s.spans(r.Spans),
	}
	if !r.EndedAt.IsZero() && r.PID != 0 {
		out.Exit = exit(r.Exit)
	}
	return out
}

func exit(x engine.Exit) *api.Exit {
	return &api.Exit{Code: x.Code, Signal: x.Signal, Text: explain.Exit(x)}
}

func (s *Session) spans(all []engine.Span) []api.Span {
	if len(all) == 0 {
		return nil
	}
	out := make([]api.Span, len(all))
	for i, sp := range all {
		out[i] = api.Span{
			Phase: sp.Phase.String(),
			From:  sp.From.Wall,
			To:    sp.To.Wall,
			Step:  s.clean(sp.Step),
			On:    sp.On,
		}
	}
	return out
}

func (s *Session) loopOf(l *engine.Loop) *api.Loop {
	if l == nil {
		return nil
	}
	out := &api.Loop{Files: s.cleanAll(l.Files), Noted: l.Noted, Text: s.clean(explain.Loop(l))}
	for _, link := range l.Round {
		out.Round = append(
			out.Round,
			api.LoopLink{By: explain.By(link), Unit: link.Unit, Files: s.cleanAll(link.Files), Does: link.Does},
		)
	}
	out.Cure = s.clean("ignore = [" + quoted(impact.Cure(l.Files)) + "]")
	return out
}

func (s *Session) ripple(r *engine.Ripple) *api.Ripple {
	out := &api.Ripple{
		ID:       r.ID,
		Cause:    api.Cause{Kind: r.Cause.Kind.String(), Unit: r.Cause.Unit, Text: s.clean(explain.Cause(r.Cause))},
		Since:    r.Since.Wall,
		OpenedAt: r.OpenedAt.Wall,
		RestAt:   r.RestAt.Wall,
		Paths:    s.cleanAll(r.Paths),
		Files:    r.Files,
		MoreRuns: r.MoreRuns,
		TookOver: r.TookOver,
		TakenBy:  r.TakenBy,
		Outcome:  api.Outcome(r.Outcome.String()),
		Detail:   s.clean(explain.Detail(r)),
		Title:    s.clean(explain.Title(r)),
	}
	for _, c := range r.Concerned {
		out.Concerned = append(out.Concerned, api.Concern{Unit: c.Unit, Rule: s.clean(c.Rule)})
	}
	for _, ref := range r.Runs {
		out.Runs = append(
			out.Runs,
			&api.RunRef{
				Unit:    ref.Unit,
				Number:  ref.Number,
				Pass:    ref.Pass,
				Because: s.clean(explain.Reasons(ref.Reasons)),
				Took:    api.Seconds(ref.Took),
				Failed:  ref.Failed,
				Spans:   s.spans(ref.Spans),
			},
		)
	}
	return out
}

func (s *Session) jobs(j engine.Jobs) api.Jobs {
	out := api.Jobs{Most: j.Most, Taken: j.Taken, By: j.By}
	if len(j.By) > 0 || j.Taken > 0 {
		out.Text, out.Alone = explain.Queued(j, false), explain.Queued(j, true)
	}
	return out
}

// fact makes one of the engine's facts into one that is handed out.
func (s *Session) fact(f engine.Fact) api.Fact {
	out := api.Fact{
		At:      f.At,
		Kind:    string(f.Kind),
		Unit:    f.Unit,
		Run:     f.Run,
		Pass:    f.Pass,
		Ripple:  f.Ripple,
		Tone:    tones[f.Tone()],
		Text:    s.clean(explain.Fact(f)),
		Verb:    f.Verb,
		Because: s.clean(explain.Because(f)),
		Command: s.clean(f.Command),
		Signal:  f.Signal,
		Problem: s.clean(explain.Wrong(f)),
		Took:    api.Seconds(f.Took),
		Since:   f.Since,
		PID:     f.PID,
		Files:   s.cleanAll(f.Files),
		Loop:    s.loopOf(f.Loop),
	}
	if f.Over.End != nil {
		out.Since, out.Files = f.Over.End.Reused, s.cleanAll(f.Over.End.Suspects)
		if f.Over.End.Exit != nil {
			out.Exit = exit(*f.Over.End.Exit)
		}
	}
	if f.Over.Run != nil {
		was := s.run(*f.Over.Run)
		out.RunWas = &was
	}
	if f.Kind == engine.FactRunEnded || f.Kind == engine.FactPassEnded {
		out.State = api.State(f.State.String())
	}
	if f.Over.Ripple != nil {
		out.RippleWas, out.Outcome = s.ripple(f.Over.Ripple), api.Outcome(f.Outcome.String())
	}
	return out
}

func (s *Session) impactOf(r impact.Report) api.Impact {
	out := r.Impact()
	for _, a := range out.Acts {
		if u := s.state().Unit(a.Unit); u != nil && !u.Wanted && (u.State == engine.Idle || u.State == engine.Stopped) {
			out.NotStarted = append(out.NotStarted, a.Unit)
			out.Text = append(
				out.Text,
				"  "+a.Unit+" is "+map[engine.State]string{engine.Idle: "not started", engine.Stopped: "stopped"}[u.State]+": it does not act until it is started",
			)
		}
	}
	out.Path, out.Text = s.clean(out.Path), s.cleanAll(out.Text)
	for i := range out.Acts {
		out.Acts[i].Rule, out.Acts[i].Does = s.clean(out.Acts[i].Rule), s.clean(out.Acts[i].Does)
	}
	for i := range out.Order {
		out.Order[i].Does, out.Order[i].Because = s.clean(out.Order[i].Does), s.clean(out.Order[i].Because)
	}
	return out
}

func verdictWord(snap *engine.Snapshot) api.VerdictWord {
	return api.VerdictWord(strings.ToLower(snap.Verdict.Word.String()))
}

// builder makes snapshots, in which what has not changed is shared with the one before.
type builder struct {
	made *api.Snapshot
	of   *engine.Snapshot
	plan *plan.Plan
}

// Show returns how faces see what an engine has decided for a plan.
func Show(from *engine.Snapshot, p *plan.Plan) *api.Snapshot {
	s := &Session{}
	b := builder{}
	snap := b.build(s, from, p)
	snap.Project.Name = p.Name
	return snap
}

// build returns the snapshot that follows.
func (b *builder) build(s *Session, from *engine.Snapshot, p *plan.Plan) *api.Snapshot {
	next := &api.Snapshot{At: from.At.Wall, Jobs: s.jobs(from.Jobs)}
	before := b.made
	if before == nil {
		before, b.of = &api.Snapshot{Saves: []api.Save{}}, &engine.Snapshot{}
	}
	next.Verdict = api.Verdict{Word: verdictWord(from), Text: s.clean(explain.Verdict(from))}
	next.Doubts = s.doubts(from.Doubts)
	next.Status = api.Status{
		Broken:   from.Broken,
		Longest:  s.longest(from.Longest),
		Paused:   from.Paused,
		Quitting: from.Quitting,
		Settings: s.clean(from.Settings),
	}
	next.Units = make([]*api.Unit, len(from.Units))
	for i, u := range from.Units {
		if i < len(b.of.Units) && b.of.Units[i] == u && b.plan == p {
			next.Units[i] = before.Units[i]
		} else {
			next.Units[i] = s.unit(u, p)
			if i < len(b.of.Units) && b.of.Units[i].Name == u.Name {
				next.Units[i].Marks = marks(before.Units[i].Marks, b.of.Units[i].Marks, u.Marks)
			} else {
				next.Units[i].Marks = marks(nil, nil, u.Marks)
			}
		}
	}
	known := make(map[*engine.Ripple]*api.Ripple, len(b.of.Ripples))
	for i, r := range b.of.Ripples {
		known[r] = before.Ripples[i]
	}
	next.Ripples = make([]*api.Ripple, len(from.Ripples))
	for i, r := range from.Ripples {
		if next.Ripples[i] = known[r]; next.Ripples[i] == nil {
			next.Ripples[i] = s.ripple(r)
		}
	}
	next.Saves = before.Saves
	if n := len(before.Saves); n > len(from.Saves) || n > 0 && before.Saves[0].At != from.Saves[0].At.Wall {
		next.Saves = []api.Save{}
	}
	for _, save := range from.Saves[len(next.Saves):] { // appended as marks are
		next.Saves = append(next.Saves, api.Save{At: save.At.Wall, Ripple: save.Ripple})
	}
	b.made, b.of, b.plan = next, from, p
	return next
}

func (s *Session) longest(r *engine.Ripple) api.Longest {
	if r == nil {
		return api.Longest{}
	}
	return api.Longest{
		ID:      r.ID,
		Title:   s.clean(explain.Title(r)),
		Outcome: api.Outcome(r.Outcome.String()),
		Took:    api.Seconds(r.RestAt.Sub(r.Since)),
	}
}

func (s *Session) doubts(all []engine.Doubt) []api.Doubt {
	var out []api.Doubt
	for _, d := range all {
		out = append(out, api.Doubt{
			Unit:  d.Unit,
			Kind:  string(d.Kind),
			File:  s.clean(d.File),
			What:  s.clean(explain.Doubt(d)),
			Ends:  s.clean(explain.DoubtEnds(d)),
			Since: d.Since.Wall,
		})
	}
	return out
}

func quoted(patterns []string) string {
	out := make([]string, len(patterns))
	for i, p := range patterns {
		out[i] = strconv.Quote(p)
	}
	return strings.Join(out, ", ")
}
