// Package snapshot converts the state of the engine and the log for faces: plain values with text names, with secrets
// masked and nothing that acts on a terminal. What has not changed since the last snapshot is shared with it. It
// decides nothing and knows no session. Start reading at Builder.Build and Converter.
package snapshot

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

// Converter converts values of the engine. Its function makes text of others safe to show.
type Converter func(text string) string

// All converts several texts.
func (c Converter) All(texts []string) []string {
	if len(texts) == 0 {
		return nil
	}
	out := make([]string, len(texts))
	for i, text := range texts {
		out[i] = c(text)
	}
	return out
}

// Tones are the words for an engine's and a log's tones, which are the same.
var Tones = [...]api.Tone{"", api.ToneCurrent, api.ToneMoving, api.ToneStale, api.ToneBroken}

// Unit converts a unit without its marks.
func (c Converter) Unit(u *engine.Unit, p *plan.Plan) *api.Unit {
	out := &api.Unit{
		Name:      u.Name,
		Kind:      u.Kind.String(),
		State:     api.State(u.State.String()),
		Freshness: api.Freshness(u.Freshness.String()),
		Why:       c(explain.Why(u)),
		Wanted:    u.Wanted,
		Paused:    u.Paused,
		Words:     c.All(u.Words),
		Narrowed:  c(u.Narrowed),
		Report:    c.report(u.Report),
		Moving:    u.Moving,
		Queued:    u.Queued,
		InLine:    u.InLine,
		Alone:     u.Alone,
		RetryAt:   u.RetryAt.Wall,
		Run:       c.Run(u.Run),
		Suspects:  c.All(u.Suspects),
		Owed:      c.All(u.Owed),
		Pass: api.Pass{
			Number:  u.Pass.Number,
			BeganAt: u.Pass.BeganAt.Wall,
			EndedAt: u.Pass.EndedAt.Wall,
			Good:    u.Pass.Good,
			Saw:     c(u.Pass.Saw),
		},
		Loop: c.loop(u.Loop),
	}
	if spec := p.Unit(u.Name); spec != nil {
		out.Command, out.Needs, out.Follows = c(spec.Run.String()), spec.Needs, spec.Follows
		if spec.Relay != nil {
			out.Needs = spec.Relay.Backends()
			out.Command = c(spec.Relay.String())
		}
		out.Dir, out.AsWritten = c(spec.Dir), spec.Unstructured
	}
	return out
}

func (c Converter) report(r engine.Report) api.Report {
	counts := r.Counts
	counts.Running, counts.Names, counts.First = c(r.Running), c.All(r.Names), c(r.First)
	return api.Report{
		Counts: counts, FailedAt: r.FailedAt, Usual: api.Seconds(r.Usual), Text: explain.Totals(r),
		Trouble: c(explain.Report(r)),
	}
}

// marks adds to the conversion of a unit's marks: lives grow at the end, and sometimes drop their beginning. Holders
// of the earlier conversion do not see what is appended.
func marks(made []api.Mark, of, now []engine.Mark) []api.Mark {
	if n := len(of); n == 0 || n > len(now) || of[0] != now[0] || of[n-1] != now[n-1] {
		made = nil
	}
	for _, m := range now[len(made):] {
		made = append(made, api.Mark{At: m.At.Wall, State: api.State(m.State.String()), Stale: m.Stale, Run: m.Run})
	}
	return made
}

// Run converts a run.
func (c Converter) Run(r engine.Run) api.Run {
	out := api.Run{
		Number:    r.Number,
		Because:   c(explain.Reasons(r.Reasons)),
		Command:   c(r.Command),
		Ripples:   r.Ripples,
		PID:       r.PID,
		OrderedAt: r.OrderedAt.Wall,
		ReadyAt:   r.ReadyAt.Wall,
		EndedAt:   r.EndedAt.Wall,
		ReusedAt:  r.Reused,
		Restored:  r.Restored,
		MadeBy:    c(r.MadeBy),
		Problem:   c(explain.Problem(r.Problem)),
		Pace:      explain.Pace(r.Pace),
		Spans:     c.spans(r.Spans),
	}
	if !r.EndedAt.IsZero() && r.PID != 0 {
		out.Exit = exit(r.Exit)
	}
	return out
}

func exit(x engine.Exit) *api.Exit {
	return &api.Exit{Code: x.Code, Signal: x.Signal, Text: explain.Exit(x)}
}

func (c Converter) spans(all []engine.Span) []api.Span {
	if len(all) == 0 {
		return nil
	}
	out := make([]api.Span, len(all))
	for i, sp := range all {
		out[i] = api.Span{
			Phase: sp.Phase.String(),
			From:  sp.From.Wall,
			To:    sp.To.Wall,
			Step:  c(sp.Step),
			On:    sp.On,
		}
	}
	return out
}

func (c Converter) loop(l *engine.Loop) *api.Loop {
	if l == nil {
		return nil
	}
	out := &api.Loop{Files: c.All(l.Files), Noted: l.Noted, Text: c(explain.Loop(l))}
	for _, link := range l.Round {
		out.Round = append(
			out.Round,
			api.LoopLink{By: explain.By(link), Unit: link.Unit, Files: c.All(link.Files), Does: link.Does},
		)
	}
	out.Cure = c("ignore = [" + quoted(impact.Cure(l.Files)) + "]")
	return out
}

// Ripple converts a ripple.
func (c Converter) Ripple(r *engine.Ripple) *api.Ripple {
	out := &api.Ripple{
		ID:       r.ID,
		Cause:    api.Cause{Kind: r.Cause.Kind.String(), Unit: r.Cause.Unit, Text: c(explain.Cause(r.Cause))},
		Since:    r.Since.Wall,
		OpenedAt: r.OpenedAt.Wall,
		RestAt:   r.RestAt.Wall,
		Paths:    c.All(r.Paths),
		Files:    r.Files,
		MoreRuns: r.MoreRuns,
		TookOver: r.TookOver,
		TakenBy:  r.TakenBy,
		Outcome:  api.Outcome(r.Outcome.String()),
		Detail:   c(explain.Detail(r)),
		Title:    c(explain.Title(r)),
	}
	for _, by := range r.Concerned {
		out.Concerned = append(out.Concerned, api.Concern{Unit: by.Unit, Rule: c(by.Rule)})
	}
	for _, ref := range r.Runs {
		out.Runs = append(
			out.Runs,
			&api.RunRef{
				Unit:    ref.Unit,
				Number:  ref.Number,
				Pass:    ref.Pass,
				Because: c(explain.Reasons(ref.Reasons)),
				Took:    api.Seconds(ref.Took),
				Failed:  ref.Failed,
				Spans:   c.spans(ref.Spans),
			},
		)
	}
	return out
}

func (c Converter) jobs(j engine.Jobs) api.Jobs {
	out := api.Jobs{Most: j.Most, Now: j.Now, Taken: j.Taken, By: j.By}
	if len(j.By) > 0 || j.Taken > 0 {
		out.Text, out.Alone = explain.Queued(j, false), explain.Queued(j, true)
	}
	return out
}

// Fact converts a fact to words.
func (c Converter) Fact(f engine.Fact) api.Fact {
	out := api.Fact{
		At:      f.At,
		Kind:    string(f.Kind),
		Unit:    f.Unit,
		Run:     f.Run,
		Pass:    f.Pass,
		Ripple:  f.Ripple,
		Tone:    Tones[f.Tone()],
		Text:    c(explain.Fact(f)),
		Verb:    f.Verb,
		Because: c(explain.Because(f)),
		Command: c(f.Command),
		Signal:  f.Signal,
		Problem: c(explain.Wrong(f)),
		Took:    api.Seconds(f.Took),
		Since:   f.Since,
		PID:     f.PID,
		Files:   c.All(f.Files),
		Loop:    c.loop(f.Loop),
	}
	if f.Over.End != nil {
		out.Since, out.Files = f.Over.End.Reused, c.All(f.Over.End.Suspects)
		if f.Over.End.Exit != nil {
			out.Exit = exit(*f.Over.End.Exit)
		}
	}
	if f.Over.Run != nil {
		was := c.Run(*f.Over.Run)
		out.RunWas = &was
	}
	if f.Kind == engine.FactRunEnded || f.Kind == engine.FactPassEnded {
		out.State = api.State(f.State.String())
	}
	if f.Over.Ripple != nil {
		out.RippleWas, out.Outcome = c.Ripple(f.Over.Ripple), api.Outcome(f.Outcome.String())
	}
	return out
}

// VerdictWord is a verdict's word for faces.
func VerdictWord(snap *engine.Snapshot) api.VerdictWord {
	return api.VerdictWord(strings.ToLower(snap.Verdict.Word.String()))
}

// Builder builds snapshots that share what has not changed with the one before. Its zero value is ready for use, by
// one goroutine at a time.
type Builder struct {
	made *api.Snapshot
	of   *engine.Snapshot
	plan *plan.Plan
}

// Of returns the snapshot of an engine's state for a plan, outside of a session.
func Of(from *engine.Snapshot, p *plan.Plan) *api.Snapshot {
	b := Builder{}
	snap := b.Build(escape.Lines, from, p)
	snap.Project.Name = p.Name
	return snap
}

// Outdated reports whether a snapshot of that plan would differ from the newest one.
func (b *Builder) Outdated(p *plan.Plan) bool { return b.plan != p }

// Show sets the newest snapshot, with what the session has added to it.
func (b *Builder) Show(made *api.Snapshot) { b.made = made }

// Build returns the next snapshot.
func (b *Builder) Build(c Converter, from *engine.Snapshot, p *plan.Plan) *api.Snapshot {
	next := &api.Snapshot{At: from.At.Wall, Jobs: c.jobs(from.Jobs)}
	before := b.made
	if before == nil {
		before, b.of = &api.Snapshot{Saves: []api.Save{}}, &engine.Snapshot{}
	}
	next.Verdict = api.Verdict{Word: VerdictWord(from), Text: c(explain.Verdict(from))}
	next.Doubts = c.Doubts(from.Doubts)
	next.Status = api.Status{
		Broken:   from.Broken,
		Longest:  c.longest(from.Longest),
		Paused:   from.Paused,
		Quitting: from.Quitting,
		Settings: c(from.Settings),
	}
	next.Units = make([]*api.Unit, len(from.Units))
	for i, u := range from.Units {
		if i < len(b.of.Units) && b.of.Units[i] == u && b.plan == p {
			next.Units[i] = before.Units[i]
		} else {
			next.Units[i] = c.Unit(u, p)
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
			next.Ripples[i] = c.Ripple(r)
		}
	}
	next.Saves = before.Saves
	if n := len(before.Saves); n > len(from.Saves) || n > 0 && before.Saves[0].At != from.Saves[0].At.Wall {
		next.Saves = []api.Save{}
	}
	for _, save := range from.Saves[len(next.Saves):] { // appended, as for marks
		next.Saves = append(next.Saves, api.Save{At: save.At.Wall, Ripple: save.Ripple})
	}
	b.made, b.of, b.plan = next, from, p
	return next
}

func (c Converter) longest(r *engine.Ripple) api.Longest {
	if r == nil {
		return api.Longest{}
	}
	return api.Longest{
		ID:      r.ID,
		Title:   c(explain.Title(r)),
		Outcome: api.Outcome(r.Outcome.String()),
		Took:    api.Seconds(r.RestAt.Sub(r.Since)),
	}
}

// Doubts converts doubts to words.
func (c Converter) Doubts(all []engine.Doubt) []api.Doubt {
	var out []api.Doubt
	for _, d := range all {
		out = append(out, api.Doubt{
			Unit:  d.Unit,
			Kind:  string(d.Kind),
			File:  c(d.File),
			What:  c(explain.Doubt(d)),
			Ends:  c(explain.DoubtEnds(d)),
			Since: d.Since.Wall,
		})
	}
	return out
}

// Observations makes the texts of observations safe to show.
func (c Converter) Observations(all api.Observations) api.Observations {
	for i := range all.Units {
		o := &all.Units[i]
		o.Problem = c(o.Problem)
		for j := range o.Reads {
			r := &o.Reads[j]
			r.Path, r.Rule, r.Exempt = c(r.Path), c(r.Rule), c(r.Exempt)
		}
		for j := range o.Writes {
			o.Writes[j].Path = c(o.Writes[j].Path)
		}
		for j := range o.Programs {
			o.Programs[j].Path, o.Programs[j].Args = c(o.Programs[j].Path), c.All(o.Programs[j].Args)
		}
		for j := range o.Connects {
			o.Connects[j].Address = c(o.Connects[j].Address)
		}
		o.Lists, o.Missing, o.Removes, o.Listens = c.All(o.Lists), c.All(o.Missing), c.All(o.Removes), c.All(o.Listens)
	}
	for i := range all.Mismatches {
		m := &all.Mismatches[i]
		m.Text, m.Files = c(m.Text), c.All(m.Files)
		for j := range m.Edits {
			m.Edits[j].Values, m.Edits[j].Text = c.All(m.Edits[j].Values), c(m.Edits[j].Text)
		}
	}
	return all
}

func quoted(patterns []string) string {
	out := make([]string, len(patterns))
	for i, p := range patterns {
		out[i] = strconv.Quote(p)
	}
	return strings.Join(out, ", ")
}
