package run

import (
	"crypto/sha256"
	"sync"
	"time"

	"omnivigil/internal/engine"
	"omnivigil/internal/plan"
	"omnivigil/internal/results/record"
)

// Tracker is the meaning of a unit's output, from run to run.
type Tracker struct {
	loaded chan struct{} // closed when the results of earlier sessions are loaded

	mu       sync.Mutex
	record   *record.Record
	run      *Live             // the current or last run
	failedAt time.Time         // the time of the first failed case in the current run
	told     int               // the version of the record that the engine knows
	toldAt   time.Time         // when it was reported
	due      bool              // another report is scheduled
	missing  string            // why the cases of the current run are unknown; empty: they are not
	kept     [sha256.Size]byte // of what was last written for later sessions
}

// Read calls a function with the results, which it must not keep. It blocks while another call reads or writes them.
func (m *Tracker) Read(read func(*record.Record)) {
	m.mu.Lock()
	defer m.mu.Unlock()
	read(m.record)
}

// Trackers are the trackers of all units, by name.
type Trackers struct {
	dir, root string // the directory for results across sessions; empty: none
	readOnly  bool   // another session may write there
	mu        sync.Mutex
	of        map[string]*Tracker
}

// NewTrackers returns the trackers of a project at root. They keep results in a directory across sessions; dir is
// empty: nowhere. With readOnly another session may write there.
func NewTrackers(dir, root string, readOnly bool) *Trackers {
	return &Trackers{dir: dir, root: root, readOnly: readOnly, of: map[string]*Tracker{}}
}

// Get returns the tracker of a unit; nil: there is none.
func (m *Trackers) Get(unit string) *Tracker {
	m.mu.Lock()
	found := m.of[unit]
	m.mu.Unlock()
	if found != nil {
		<-found.loaded
	}
	return found
}

// open starts loading the results of a unit from earlier sessions, if that was not done before.
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
				opened.record = kept // otherwise there is none, or it is unreadable
			}
		}
		opened.record.Root = m.root
	}()
}

func (m *Trackers) file(unit string) string { return record.FileOf(m.dir, unit) }

// keep writes the results of a tracker's unit if they have changed. It blocks while it writes.
func (m *Trackers) keep(unit string, by *Tracker, data []byte) error {
	if m.dir == "" || m.readOnly {
		return nil
	}
	sum := sha256.Sum256(data)
	by.mu.Lock()
	same := sum == by.kept
	by.mu.Unlock()
	if same {
		return nil
	}
	if err := record.Keep(m.file(unit), data); err != nil {
		return err
	}
	by.mu.Lock()
	by.kept = sum
	by.mu.Unlock()
	return nil
}

// isTracked reports whether the meaning of a unit's output is to be read.
func isTracked(u *plan.Unit) bool { return u.Results.Form != plan.ResultsExit || !u.Findings.Off }

// reportPause is the minimum time between two reports.
const reportPause = 30 * time.Millisecond

// report reports the results of the newest run so far to the engine; final: it was read to its end.
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

// fails reports whether the results of a run make it a failed one, whatever its exit status.
func fails(u *plan.Unit, sum record.Summary) bool {
	switch {
	case !u.Kind.Ends():
		return false
	case sum.FailedNow > 0:
		return true
	case u.Kind == plan.Suite && sum.Ran > 0: // its runner is known: what tests write is their own
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

// Adopt drops the results of units that are no longer in the settings, and loads those of new ones.
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
