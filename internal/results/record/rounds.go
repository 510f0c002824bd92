package record

import (
	"omnivigil/internal/api"
	"omnivigil/internal/results"
)

// TrackedFinding is a finding with its change.
type TrackedFinding struct {
	results.Finding
	Change api.Change // empty: nothing is known of before
	Run    int        // the newest that reported it
	By     string     // the command of that run, if it was not the unit's own
	round  int        // the last that reported it
	id     string     // see results.Finding.Identity; empty: not computed yet
}

func (t *TrackedFinding) identity() string {
	if t.id == "" {
		t.id = t.Identity()
	}
	return t.id
}

// NextRound begins a round of findings: a run, or a pass of a tool that picks up changes by itself.
func (r *Record) NextRound() {
	r.round++
	kept := r.findings[:0]
	for _, f := range r.findings {
		if f.Change != api.GoneFinding {
			f.Change = api.StillThere
			kept = append(kept, f)
		}
	}
	clear(r.findings[len(kept):])
	r.findings = kept
	r.index()
	r.fails = [results.Error + 1]bool{}
	r.version++
}

func (r *Record) index() {
	clear(r.byFile)
	for _, f := range r.findings {
		r.byFile[f.File] = append(r.byFile[f.File], f)
	}
}

// Found implements Sink.
func (r *Record) Found(f results.Finding) {
	if !f.Trace && !f.Assumed {
		r.fails[f.Severity] = true
	}
	r.version++
	if t := r.known(f); t != nil {
		notes := f.Notes
		if len(notes) == 0 && t.round == r.round {
			notes = t.Notes
		}
		t.Finding, t.Run, t.By, t.round, t.id = f, r.run.Number, r.run.Command, r.round, ""
		t.Notes = notes
		return
	}
	if len(r.findings) >= maxFindings {
		return
	}
	t := &TrackedFinding{Finding: f, Run: r.run.Number, By: r.run.Command, round: r.round}
	if r.settled {
		t.Change = api.NewFinding
	}
	r.findings = append(r.findings, t)
	r.byFile[f.File] = append(r.byFile[f.File], t)
}

// nearby is how many lines a finding may have moved if its message has changed.
const nearby = 3

// known returns the finding that another one is equal to: reported before in this round at the same location; or in
// an earlier round with the same rule and message, nearest by line; or with the same rule close by.
func (r *Record) known(f results.Finding) *TrackedFinding {
	var best *TrackedFinding
	rank, id := 0, f.Identity()
	for _, t := range r.byFile[f.File] {
		same := t.Rule == f.Rule && t.identity() == id
		off := max(t.Line-f.Line, f.Line-t.Line)
		switch {
		case t.round == r.round:
			if same && t.Location == f.Location {
				return t
			}
		case t.Change == api.GoneFinding, !same &&
			(f.Rule == "" || t.Rule != f.Rule || off > nearby || t.Severity != f.Severity):
		default:
			score := off
			if !same {
				score += 1 << 30
			}
			if best == nil || score < rank {
				best, rank = t, score
			}
		}
	}
	return best
}

// Settle ends a round of findings: those of earlier rounds that were not reported again are gone, if this run reads
// findings at all.
func (r *Record) Settle() {
	r.settled = true
	for _, f := range r.findings {
		if f.round != r.round && f.Change != api.GoneFinding && (r.whole() || f.By == r.run.Command) {
			f.Change = api.GoneFinding
			r.version++
		}
	}
}
