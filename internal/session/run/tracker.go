package run

import (
	"strings"
	"sync"
	"time"

	"github.com/charmbracelet/x/ansi"

	"omnivigil/internal/engine"
	"omnivigil/internal/plan"
	"omnivigil/internal/results/record"
)

// Tracker is what the output of a unit has meant, from run to run.
type Tracker struct {
	loaded chan struct{} // closed when what an earlier session has left is known

	mu       sync.Mutex
	record   *record.Record
	run      *Live     // that is read now, or was last
	failedAt time.Time // when the first case failed of the run that is read
	told     int       // version of the record that the engine knows
	toldAt   time.Time // when it was reported
	due      bool      // it will get a newer one in a moment
	missing  string    // why nothing is known of the cases of the run that is read; empty: that is not so
}

// Read calls a function with what the output has meant, which it must not keep. It blocks while something else reads
// or writes that.
func (m *Tracker) Read(read func(*record.Record)) {
	m.mu.Lock()
	defer m.mu.Unlock()
	read(m.record)
}

// Trackers are those of all units, by name.
type Trackers struct {
	dir, root string // where they are kept from one session to the next; empty: nowhere
	readOnly  bool   // another session may keep them there
	mu        sync.Mutex
	of        map[string]*Tracker
}

// NewTrackers returns the trackers of a project at root, which keep what is known in a directory from one session to
// the next; dir is empty: nowhere. With readOnly another session may keep it there.
func NewTrackers(dir, root string, readOnly bool) *Trackers {
	return &Trackers{dir: dir, root: root, readOnly: readOnly, of: map[string]*Tracker{}}
}

// Get returns that of a unit, nil where nothing is known of it.
func (m *Trackers) Get(unit string) *Tracker {
	m.mu.Lock()
	found := m.of[unit]
	m.mu.Unlock()
	if found != nil {
		<-found.loaded
	}
	return found
}

// open begins to read what an earlier session has left of a unit, where that was not done before.
func (m *Trackers) open(unit string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.of[unit] != nil {
		return
	}
	opened := &Tracker{record: record.New(), loaded: make(chan struct{})}
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

func (m *Trackers) file(unit string) string { return record.FileOf(m.dir, unit) }

// keep writes what has to be remembered of a unit. It blocks while it writes.
func (m *Trackers) keep(unit string, data []byte) error {
	if m.dir == "" || m.readOnly {
		return nil
	}
	return record.Keep(m.file(unit), data)
}

// isTracked reports whether it is wanted to know what a unit's output means.
func isTracked(u *plan.Unit) bool { return u.Results.Form != plan.ResultsExit || !u.Findings.Off }

// reportPause is the least time between two reports.
const reportPause = 30 * time.Millisecond

// report reports to the engine what the output has meant so far, of the newest run; final says that it was
// read to its end.
func (m *Tracker) report(final bool) {
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
	r.project.Send(
		engine.Reported{
			Unit:    r.Unit.Name,
			Run:     r.Number,
			Report:  report,
			Fails:   missing != "" || fails(r.Unit, sum),
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

// strip is a line's visible text.
func strip(line string) string {
	if strings.IndexByte(line, 0x1b) < 0 {
		return line
	}
	return ansi.Strip(line)
}

// Adopt drops what is known of units that are not in the settings any more, and begins to read
// what is known of those that are new.
func (m *Trackers) Adopt(p *plan.Plan) {
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
