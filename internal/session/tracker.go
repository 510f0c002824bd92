package session

import (
	"strings"
	"sync"
	"time"

	"github.com/charmbracelet/x/ansi"

	"omnivigil/internal/api"
	"omnivigil/internal/engine"
	"omnivigil/internal/output/logbook"
	"omnivigil/internal/plan"
	"omnivigil/internal/results"
	"omnivigil/internal/results/readers"
	"omnivigil/internal/results/record"
	"omnivigil/internal/text/format"
)

// resultTracker is what the output of a unit has meant, from run to run.
type resultTracker struct {
	loaded chan struct{} // closed when what an earlier session has left is known

	mu       sync.Mutex
	record   *record.Record
	run      *liveRun  // that is read now, or was last
	failedAt time.Time // when the first case failed of the run that is read
	told     int       // version of the record that the engine knows
	toldAt   time.Time // when it was told
	due      bool      // it will be told of a newer one in a moment
	known    *known    // as faces see it; nil: no face has asked
	missing  string    // why nothing is known of the cases of the run that is read; empty: that is not so
}

// resultTrackers are those of all units, by name.
type resultTrackers struct {
	dir, root string // where they are kept from one session to the next; empty: nowhere
	readOnly  bool   // another session may keep them there
	mu        sync.Mutex
	of        map[string]*resultTracker
}

// get returns that of a unit, nil where nothing is known of it.
func (m *resultTrackers) get(unit string) *resultTracker {
	m.mu.Lock()
	found := m.of[unit]
	m.mu.Unlock()
	if found != nil {
		<-found.loaded
	}
	return found
}

// open begins to read what an earlier session has left of a unit, where that was not done before.
func (m *resultTrackers) open(unit string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.of[unit] != nil {
		return
	}
	opened := &resultTracker{record: record.New(), loaded: make(chan struct{})}
	m.of[unit] = opened
	go func() {
		defer close(opened.loaded)
		if m.dir != "" {
			if kept, err := record.Load(m.file(unit)); err == nil {
				opened.record = kept // else there is none, or one that cannot be read any more
			}
		}
		opened.record.Root = m.root
	}()
}

func (m *resultTrackers) file(unit string) string { return record.FileOf(m.dir, unit) }

// keep writes what has to be remembered of a unit. It blocks while it writes.
func (m *resultTrackers) keep(unit string, data []byte) error {
	if m.dir == "" || m.readOnly {
		return nil
	}
	return record.Keep(m.file(unit), data)
}

// reading is how a run's output is read for what it means. It is guarded by liveRun.reading.
type reading struct {
	*resultTracker
	reader  *readers.Reader
	options readers.Options
	unended string // a line that was shown before it had an end
}

// leavesOut are the words by which common runners are told to run some of their cases only.
var leavesOut = []string{" -run", " -skip", " -k ", "--test-name-pattern", " -t ", "--exact", "--grep"}

// isTracked reports whether it is wanted to know what a unit's output means.
func isTracked(u *plan.Unit) bool { return u.Results.Form != plan.ResultsExit || !u.Findings.Off }

// trackResults begins to read what a run's output means, if that is wanted.
func (r *liveRun) trackResults(s *Session, o engine.Start) {
	u := r.unit
	if !isTracked(u) {
		return
	}
	s.trackers.open(u.Name)
	m := s.trackers.get(u.Name)
	r.tracking.resultTracker = m
	r.tracking.options = readers.Options{
		Dir:      u.Dir,
		Root:     s.root,
		Results:  u.Results,
		Findings: u.Findings,
		Hide:     func(text string) string { return s.hidden.Load().String(text) },
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
		m.told = m.record.Version() // an empty record is no news
	}
	r.tracking.reader = readers.New(r.tracking.options, m.record)
}

// firstWords are added to a whole run while cases fail, where the settings say so. They are told.
func (r *liveRun) firstWords(s *Session, o engine.Start) []string {
	if r.tracking.reader == nil || len(o.Words) > 0 || !o.Command.Equal(r.unit.Run) {
		return nil
	}
	r.tracking.mu.Lock()
	words := results.First(r.unit, r.tracking.record.Failing())
	r.tracking.mu.Unlock()
	if len(words) > 0 {
		s.note(r.entry(logbook.Note), "runs with "+format.Typed(words)+": what failed comes first")
	}
	return words
}

// mayMatter reports whether a block of lines has to be read.
func (r *liveRun) mayMatter(block []byte) bool {
	return r.tracking.reader != nil && r.tracking.reader.MayMatter(block)
}

// mean reads a line for what it means, and returns its tone. What was shown of it before it had
// an end comes first.
func (r *liveRun) mean(s *Session, line string) logbook.Tone {
	if r.tracking.reader == nil {
		return logbook.Neutral
	}
	m := r.tracking.resultTracker
	m.mu.Lock()
	mark := r.tracking.reader.Read(line)
	m.mu.Unlock()
	r.reportSoon(s)
	return [...]logbook.Tone{results.MarkWarning: logbook.Stale, results.MarkFailure: logbook.Broken}[mark]
}

// reportPause is the least time between two reports.
const reportPause = 30 * time.Millisecond

// reportSoon tells the engine what the output has meant so far: at once, or in a moment where it
// has just been told.
func (r *liveRun) reportSoon(s *Session) {
	m := r.tracking.resultTracker
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.due || m.told == m.record.Version() {
		return
	}
	m.due = true
	time.AfterFunc(time.Until(m.toldAt.Add(reportPause)), func() { m.report(s, false) })
}

// report tells the engine what the output has meant so far, of the newest run; final says that it was
// read to its end.
func (m *resultTracker) report(s *Session, final bool) {
	m.mu.Lock()
	r := m.run
	sum := m.record.Sum()
	m.told, m.toldAt, m.due = sum.Version, time.Now(), false
	switch {
	case sum.FailedNow == 0:
		m.failedAt = time.Time{}
	case m.failedAt.IsZero():
		m.failedAt = time.Now().Round(0)
	}
	report := reportOf(sum)
	report.FailedAt = m.failedAt
	missing := m.missing
	m.mu.Unlock()
	s.send(
		engine.Reported{
			Unit:    r.unit.Name,
			Run:     r.number,
			Report:  report,
			Fails:   missing != "" || fails(r.unit, sum),
			Problem: missing,
			Final:   final,
		},
	)
}

// fails reports whether what a run has said makes it a failed one, however it exits.
func fails(u *plan.Unit, sum record.Summary) bool {
	switch {
	case !u.Kind.Ends():
		return false
	case sum.FailedNow > 0:
		return true
	case u.Kind == plan.Suite && sum.Ran > 0: // its runner is known: what tests write is theirs
		return false
	case u.FindingsFail == plan.FailOnError:
		return sum.ToldErrors
	case u.FindingsFail == plan.FailOnWarning:
		return sum.ToldErrors || sum.ToldWarnings
	}
	return false
}

func reportOf(s record.Summary) engine.Report {
	return engine.Report{Counts: s.Counts, Usual: s.Usual}
}

// passRead follows the findings of a tool that picks up changes by itself from pass to pass. It
// reports whether they make a good pass a bad one, and what the tool said.
func (r *liveRun) passRead(ended, good bool) (fails bool, saw string) {
	if r.tracking.reader == nil {
		return false, ""
	}
	m := r.tracking.resultTracker
	m.mu.Lock()
	defer m.mu.Unlock()
	if !ended {
		m.record.NextRound()
		return false, ""
	}
	r.tracking.reader.End(false)
	m.record.Settle()
	sum := m.record.Sum()
	m.told = 0 // it is told with the end of the pass
	if good && r.unit.FindingsFail == plan.FailOnWarning && (sum.ToldErrors || sum.ToldWarnings) {
		return true, format.Count(sum.Warnings+sum.Errors, "warning") + ": " + sum.First
	}
	return false, ""
}

// settleFindings ends the round of a service's findings when it is ready: what it has not told again by then is gone.
// It does not block.
func (l *loop) settleFindings(unit string) {
	run := l.live[unit]
	if run == nil || run.unit.Pass != nil || run.unit.Kind.Ends() {
		return
	}
	run.inOrder.do(func() {
		m := l.trackers.get(unit)
		if m == nil {
			return
		}
		m.mu.Lock()
		m.record.Settle()
		news := m.told != m.record.Version()
		m.mu.Unlock()
		if news {
			m.report(l.Session, false)
		}
	})
}

// meant reads what a run has left when its output has ended, and tells the engine. It reports
// whether that makes the run a failed one. It blocks while it reads the reports of tools.
func (r *liveRun) meant(s *Session, exit engine.Exit) bool {
	if r.tracking.reader == nil {
		return false
	}
	m := r.tracking.resultTracker
	m.mu.Lock()
	complete := !r.isStopped()
	r.tracking.reader.End(complete)
	missing := ""
	kept, caseErr := readers.ReadCases(r.tracking.options, r.began, r.tracking.reader.UpToDate(), m.record)
	if caseErr != nil && complete && r.unit.Kind.Ends() {
		missing = s.clean(caseErr.Error())
	}
	if sum := m.record.Sum(); missing == "" && complete && r.narrow != "" && sum.Ran == 0 && sum.Cases > 0 {
		missing = "no test matched " + s.clean(r.narrow)
	}
	err := readers.ReadFindings(r.tracking.options, r.began, m.record)
	m.record.End(time.Now().Round(0), complete, exit.OK())
	sum := m.record.Sum()
	news := m.record.News()
	told, keepErr := m.record.Marshal()
	m.missing = missing
	m.mu.Unlock()
	r.told = told
	if kept != "" {
		s.note(r.noteEntry(logbook.Neutral), kept)
	}
	if missing != "" {
		s.note(r.noteEntry(logbook.Broken), missing)
	}
	if err != nil && complete {
		s.note(r.noteEntry(logbook.Stale), err.Error())
	}
	m.report(s, true)
	if complete && news != "" {
		s.say(r.noteEntry(logbook.Neutral), api.Fact{Kind: api.FactResults, Text: news})
	}
	if keepErr == nil {
		keepErr = s.trackers.keep(r.unit.Name, told)
	}
	if keepErr != nil {
		s.note(r.noteEntry(logbook.Stale), "its results will not be known next time: "+keepErr.Error())
	}
	return exit.OK() && (missing != "" || fails(r.unit, sum))
}

// reuseMeaning takes over what the run has told whose result is reused, and tells the engine.
func (r *liveRun) reuseMeaning(s *Session, told []byte) {
	if r.tracking.reader == nil {
		return
	}
	by, err := record.Unmarshal(told)
	if err != nil {
		by = nil
	}
	m := r.tracking.resultTracker
	m.mu.Lock()
	m.record.Reuse(by)
	m.mu.Unlock()
	m.report(s, true)
}

func (r *liveRun) noteEntry(tone logbook.Tone) logbook.Entry {
	e := r.entry(logbook.Note)
	e.Tone = tone
	return e
}

// strip is a line's visible text.
func strip(line string) string {
	if strings.IndexByte(line, 0x1b) < 0 {
		return line
	}
	return ansi.Strip(line)
}

// adopt drops what is known of units that are not in the settings any more, and begins to read
// what is known of those that are new.
func (m *resultTrackers) adopt(p *plan.Plan) {
	for _, u := range p.Units {
		if isTracked(u) {
			m.open(u.Name)
		}
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	for unit := range m.of {
		if p.Unit(unit) == nil {
			delete(m.of, unit)
		}
	}
}
