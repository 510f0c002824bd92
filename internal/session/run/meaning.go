package run

import (
	"strings"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/engine"
	"omnivigil/internal/output/logbook"
	"omnivigil/internal/plan"
	"omnivigil/internal/results"
	"omnivigil/internal/results/readers"
	"omnivigil/internal/results/record"
	"omnivigil/internal/text/format"
)

// reading is how the meaning of a run's output is read. Live.reading guards it.
type reading struct {
	*Tracker
	reader  *readers.Reader
	options readers.Options
	unended string // an unfinished line that was shown
}

// leavesOut are the options by which common runners run only some of their cases.
var leavesOut = []string{" -run", " -skip", " -k ", "--test-name-pattern", " -t ", "--exact", "--grep"}

// trackResults starts reading the meaning of a run's output, if the settings want it.
func (r *Live) trackResults(o engine.Start) {
	u := r.Unit
	if !isTracked(u) {
		return
	}
	r.project.Tracked.open(u.Name)
	m := r.project.Tracked.Get(u.Name)
	r.tracking.Tracker = m
	r.tracking.options = readers.Options{
		Dir:      u.Dir,
		Root:     r.project.Root,
		Results:  u.Results,
		Findings: u.Findings,
		Hide:     func(text string) string { return r.project.Hidden().String(text) },
	}
	if r.narrow = ""; o.Narrow {
		r.narrow = format.Typed(o.Words)
	}
	run := record.Run{Number: o.Run, Same: o.Same, At: time.Now().Round(0), Partial: o.Narrow}
	if len(o.Words) > 0 || !o.Command.Equal(u.Run) {
		run.Command = o.Command.Plus(o.Words).String()
		for _, words := range leavesOut {
			run.Partial = run.Partial || strings.Contains(run.Command, words)
		}
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	m.run, m.failedAt, m.missing = r, time.Time{}, ""
	m.record.Begin(run)
	if m.told == 0 {
		m.told = m.record.Version() // an empty record is not news
	}
	r.tracking.reader = readers.New(r.tracking.options, m.record)
}

// firstWords are added to a whole run while cases fail, if the settings say so. They are reported.
func (r *Live) firstWords(o engine.Start) []string {
	if r.tracking.reader == nil || len(o.Words) > 0 || !o.Command.Equal(r.Unit.Run) {
		return nil
	}
	r.tracking.mu.Lock()
	words := results.First(r.Unit, r.tracking.record.Failing())
	r.tracking.mu.Unlock()
	if len(words) > 0 {
		r.project.Note(r.Entry(logbook.Note), "runs with "+format.Typed(words)+": what failed comes first")
	}
	return words
}

// skip passes over lines without colors if none of them has a meaning.
func (r *Live) skip(bare []byte) bool {
	return r.tracking.reader == nil || r.tracking.reader.Skip(bare)
}

// mean reads the meaning of lines, and sets their tones.
func (r *Live) mean(lines []string, tones []logbook.Tone) {
	if r.tracking.reader == nil {
		return
	}
	m := r.tracking.Tracker
	m.mu.Lock()
	for i, line := range lines {
		mark := r.tracking.reader.Read(line)
		tones[i] = [...]logbook.Tone{results.MarkWarning: logbook.Stale, results.MarkFailure: logbook.Broken}[mark]
	}
	m.mu.Unlock()
	r.reportSoon()
}

// reportSoon reports the meaning so far to the engine: at once, or soon if the last report was just now.
func (r *Live) reportSoon() {
	m := r.tracking.Tracker
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.due || m.told == m.record.Version() {
		return
	}
	m.due = true
	time.AfterFunc(time.Until(m.toldAt.Add(reportPause)), func() { m.report(false) })
}

// passRead follows the findings of a tool that picks up changes by itself, from pass to pass. It returns whether they
// make a good pass a bad one, and why.
func (r *Live) passRead(ended, good bool) (fails bool, saw string) {
	if r.tracking.reader == nil {
		return false, ""
	}
	m := r.tracking.Tracker
	m.mu.Lock()
	defer m.mu.Unlock()
	if !ended {
		m.record.NextRound()
		return false, ""
	}
	r.tracking.reader.End(false)
	m.record.Settle()
	sum := m.record.Sum()
	m.told = 0 // it is reported with the end of the pass
	if good && r.Unit.FindingsFail == plan.FailOnWarning && (sum.ToldErrors || sum.ToldWarnings) {
		return true, format.Count(sum.Warnings+sum.Errors, "warning") + ": " + sum.First
	}
	return false, ""
}

// SettleFindings ends the round of a service's findings when it is ready: what it has not reported again by then is
// gone. It does not block.
func (r *Live) SettleFindings() {
	if r.Unit.Pass != nil || r.Unit.Kind.Ends() {
		return
	}
	r.inOrder.do(func() {
		m := r.project.Tracked.Get(r.Unit.Name)
		if m == nil {
			return
		}
		m.mu.Lock()
		m.record.Settle()
		news := m.told != m.record.Version()
		m.mu.Unlock()
		if news {
			m.report(false)
		}
	})
}

// meant reads the rest of a run's meaning when its output has ended, and reports it to the engine. It returns whether
// that makes the run a failed one. It blocks while it reads report files.
func (r *Live) meant(exit engine.Exit) bool {
	if r.tracking.reader == nil {
		return false
	}
	m := r.tracking.Tracker
	m.mu.Lock()
	complete := !r.isStopped()
	r.tracking.reader.End(complete)
	missing := ""
	kept, caseErr := readers.ReadCases(r.tracking.options, r.Began, r.tracking.reader, m.record)
	if caseErr != nil && complete && r.Unit.Kind.Ends() {
		missing = r.project.Clean(caseErr.Error())
	}
	if sum := m.record.Sum(); missing == "" && complete && r.narrow != "" && sum.Ran == 0 && sum.Cases > 0 {
		missing = "no test matched " + r.project.Clean(r.narrow)
	}
	err := readers.ReadFindings(r.tracking.options, r.Began, m.record)
	m.record.End(time.Now().Round(0), complete, exit.OK())
	sum := m.record.Sum()
	news := m.record.News()
	told, keepErr := m.record.Marshal()
	m.missing = missing
	cases, same := m.record.Ran()
	m.mu.Unlock()
	r.told = told
	if len(cases) > 0 {
		r.project.Tested(r.Unit, r.Number, r.Began, same, cases)
	}
	if kept != "" {
		r.project.Note(r.noteEntry(logbook.Neutral), kept)
	}
	if missing != "" {
		r.project.Note(r.noteEntry(logbook.Broken), missing)
	}
	if err != nil && complete {
		r.project.Note(r.noteEntry(logbook.Stale), err.Error())
	}
	m.report(true)
	if complete && news != "" {
		r.project.Say(r.noteEntry(logbook.Neutral), api.Fact{Kind: api.FactResults, Text: news})
	}
	if keepErr == nil {
		keepErr = r.project.Tracked.keep(r.Unit.Name, m, told)
	}
	if keepErr != nil {
		r.project.Note(r.noteEntry(logbook.Stale), "its results will not be known next time: "+keepErr.Error())
	}
	return exit.OK() && (missing != "" || fails(r.Unit, sum))
}

// reuseMeaning adopts what the run had reported whose result is reused, and reports it to the engine.
func (r *Live) reuseMeaning(told []byte) {
	if r.tracking.reader == nil {
		return
	}
	by, err := record.Unmarshal(told)
	if err != nil {
		by = nil
	}
	m := r.tracking.Tracker
	m.mu.Lock()
	m.record.Reuse(by)
	m.mu.Unlock()
	m.report(true)
}

func (r *Live) noteEntry(tone logbook.Tone) logbook.Entry {
	e := r.Entry(logbook.Note)
	e.Tone = tone
	return e
}
