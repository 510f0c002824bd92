// Package history is the history of a project across sessions: a SQLite database of runs, ripples, tests, findings and
// samples, which docs/history.md describes. A Writer belongs to a session, and watches what it writes for trends; a
// Reader is for faces. Start reading at Writer, then Reader.
package history

import (
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"time"

	"omnivigil/internal/store/history/database"
)

const (
	pause      = 2 * time.Second // between two writes
	turn       = time.Second     // how long a write may take before other sessions get their turn
	maxPending = 20_000          // entries; what comes on top of these is dropped

	// handover is the time between two turns of a writer that is closed; those who wait look at most every 100 ms.
	handover = 150 * time.Millisecond
)

// Session is the session that writes.
type Session struct {
	Name  string
	Began time.Time
	Once  bool
}

// Limits are the limits of a database. What is oldest is deleted first.
type Limits struct {
	Size int64         // bytes
	Age  time.Duration //
}

// entry is something to be written.
type entry interface{ write(w *transaction) error }

// Writer writes the history of one session. Its methods do not block, except Close, and may be called from any
// goroutine. What it is given is written soon, together. A database that cannot be written to loses it, and delays
// nothing.
type Writer struct {
	dir    string
	of     Session
	limits Limits
	turn   time.Duration
	report func(problem string)

	mu      sync.Mutex
	pending []entry
	dropped int
	refused bool // nothing can be written
	wake    chan struct{}
	closing chan struct{}
	closed  chan struct{}

	// What follows is only used by the goroutine that writes.
	db      *sql.DB
	session int64
	ids     ids
	analyst analyst
	trimmed time.Time // when what is old was deleted
	judged  int64     // the time of the last verdict, in milliseconds
	// What belongs to runs that have not been written yet.
	results map[runKey]Results
	passes  map[runKey][]Pass
}

// New returns a writer to the database in a directory, which is created if it does not exist. It enters a session.
// Report is called with what goes wrong, first of all if nothing can be written, and found with each trend; both must
// not block. A file of a newer version of the program is left as it is.
func New(dir string, s Session, limits Limits, report func(problem string), found func(Trend)) *Writer {
	w := &Writer{
		dir: dir, of: s, limits: limits, turn: turn, report: report, ids: newIDs(), analyst: newAnalyst(found),
		results: map[runKey]Results{}, passes: map[runKey][]Pass{},
		wake: make(chan struct{}, 1), closing: make(chan struct{}), closed: make(chan struct{}),
	}
	go w.run()
	return w
}

// open opens the database and enters the session.
func (w *Writer) open() error {
	if err := os.MkdirAll(w.dir, 0o700); err != nil {
		return err
	}
	file := filepath.Join(w.dir, database.FileName)
	f, err := os.OpenFile(file, os.O_CREATE|os.O_RDWR, 0o600) // the files next to it get the same mode
	if err != nil {
		return err
	}
	f.Close()
	if w.db, err = database.Open(file, "_txlock=immediate", "_pragma=foreign_keys(1)"); err != nil {
		return err
	}
	if err = w.beginPatiently(file); err != nil {
		w.db.Close()
	}
	return err
}

// beginPatiently waits for other processes that write: as long as the session lasts, and then for a limited time.
func (w *Writer) beginPatiently(file string) error {
	const again = 20 * time.Millisecond // SQLite itself does not wait to change how a file is kept intact
	err := w.begin(file)
	for database.IsBusy(err) && w.isOpen() {
		time.Sleep(again)
		err = w.begin(file)
	}
	for until := time.Now().Add(database.Patience); database.IsBusy(err) && time.Now().Before(until); {
		time.Sleep(again)
		err = w.begin(file)
	}
	return err
}

// isOpen reports whether the writer is not being closed.
func (w *Writer) isOpen() bool {
	select {
	case <-w.closing:
		return false
	default:
		return true
	}
}

// begin prepares the file and enters the session.
func (w *Writer) begin(file string) error {
	var version int
	if err := w.db.QueryRow("PRAGMA user_version").Scan(&version); err != nil {
		return err
	}
	if version > database.Version {
		return database.ErrNewer
	}
	if version == 0 {
		if _, err := w.db.Exec("PRAGMA auto_vacuum = INCREMENTAL"); err != nil {
			return err
		}
	}
	if err := w.setJournal(file); err != nil {
		return err
	}
	if err := database.Migrate(w.db); err != nil {
		return err
	}
	// A session of this name that was entered before was imported, or its supervisor was replaced.
	return w.db.QueryRow(`INSERT INTO session (name, began, once) VALUES (?, ?, ?)
		ON CONFLICT (name) DO UPDATE SET ended = NULL RETURNING id`, w.of.Name, milli(w.of.Began), w.of.Once).Scan(&w.session)
}

// setJournal chooses how the database is kept intact: by a write-ahead log, with which readers never wait, or where
// its shared memory does not work, by a journal.
func (w *Writer) setJournal(file string) error {
	mode := "wal"
	if !database.SharesMemory(file) {
		mode = "truncate"
	}
	var got string
	if err := w.db.QueryRow("PRAGMA journal_mode = " + mode).Scan(&got); err != nil {
		return err
	}
	if got != "wal" {
		w.report("the file system has no shared memory: readers of the history may wait for its writer")
	}
	_, err := w.db.Exec("PRAGMA synchronous = NORMAL")
	return err
}

// add notes an entry that is to be written.
func (w *Writer) add(e entry) {
	w.mu.Lock()
	switch {
	case w.refused:
	case len(w.pending) < maxPending:
		w.pending = append(w.pending, e)
	default:
		w.dropped++
	}
	w.mu.Unlock()
	select {
	case w.wake <- struct{}{}:
	default:
	}
}

// Close writes what is left, ends the session and closes the database. It blocks until then; if other processes write
// all the time, it gives up.
func (w *Writer) Close() { w.CloseAt(time.Now()) }

// CloseAt is Close for a session that ended at a time.
func (w *Writer) CloseAt(at time.Time) {
	w.add(sessionEnd{at})
	close(w.closing)
	<-w.closed
}

// run writes what comes, at most once in a pause, and deletes what is too old.
func (w *Writer) run() {
	defer close(w.closed)
	if err := w.open(); err != nil {
		w.report("no history is written: " + err.Error())
		w.mu.Lock()
		w.pending, w.refused = nil, true
		w.mu.Unlock()
		return
	}
	defer w.db.Close()
	w.trim()
	for open := true; open; {
		select {
		case <-w.wake:
		case <-w.closing:
		}
		select {
		case <-time.After(pause):
		case <-w.closing:
			open = false
		}
		w.flush()
		if open && time.Since(w.trimmed) > trimPause {
			w.trim()
		}
	}
	for w.flush() {
		time.Sleep(handover)
	}
}

// flush writes the pending entries in one transaction, and reports whether some are left for the next turn.
func (w *Writer) flush() bool {
	w.mu.Lock()
	entries, dropped := w.pending, w.dropped
	w.pending, w.dropped = nil, 0
	w.mu.Unlock()
	if dropped > 0 {
		w.report(fmt.Sprintf("%d entries of the history came too fast and are lost", dropped))
	}
	if len(entries) == 0 {
		return false
	}
	var rest []entry
	tx, err := w.db.Begin()
	switch {
	case err == nil:
		rest, err = w.write(tx, entries)
	case database.IsBusy(err) && w.isOpen():
		rest, err = entries, nil
	}
	if err != nil {
		w.ids = newIDs() // those of the transaction do not exist
		w.analyst.forget()
		w.report("the history of the last seconds is lost: " + err.Error())
		return false
	}
	return w.putBack(rest)
}

// putBack makes entries pending again, before those that have come since, and reports whether there are any. The
// newest are dropped if there are too many.
func (w *Writer) putBack(entries []entry) bool {
	if len(entries) == 0 {
		return false
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.pending = append(entries, w.pending...)
	if more := len(w.pending) - maxPending; more > 0 {
		w.pending = w.pending[:maxPending]
		w.dropped += more
	}
	select {
	case w.wake <- struct{}{}:
	default:
	}
	return true
}

// write writes entries until the turn is over, and returns those that are left.
func (w *Writer) write(tx *sql.Tx, entries []entry) (rest []entry, err error) {
	defer tx.Rollback()
	t := &transaction{Tx: tx, Writer: w}
	for over := time.Now().Add(w.turn); len(entries) > 0; {
		if err := entries[0].write(t); err != nil {
			return nil, err
		}
		entries = entries[1:]
		if time.Now().After(over) {
			break
		}
	}
	if err := tx.Commit(); err != nil {
		return nil, err
	}
	w.analyst.tell()
	return entries, nil
}

// transaction is a transaction of a writer.
type transaction struct {
	*sql.Tx
	*Writer
}

// ids are the numbers of rows that are referred to. They are only used by the goroutine that writes.
type ids struct {
	units     map[string]int64
	tests     map[testKey]int64
	revisions map[Revision]int64
}

type runKey struct {
	unit   string
	number int
}

type testKey struct {
	unit        int64
	suite, name string
}

func newIDs() ids {
	return ids{
		units: map[string]int64{}, tests: map[testKey]int64{}, revisions: map[Revision]int64{},
	}
}

// idOf returns the number of a row, which is inserted if it does not exist.
func idOf[K comparable](t *transaction, known map[K]int64, key K, find, insert string, args ...any) (int64, error) {
	if id, ok := known[key]; ok {
		return id, nil
	}
	var id int64
	err := t.QueryRow(find, args...).Scan(&id)
	if errors.Is(err, sql.ErrNoRows) {
		err = t.QueryRow(insert, args...).Scan(&id)
	}
	if err == nil {
		known[key] = id
	}
	return id, err
}

// unit returns the number of a unit.
func (t *transaction) unit(name, kind string) (int64, error) {
	if id, ok := t.ids.units[name]; ok {
		return id, nil
	}
	var id int64
	err := t.QueryRow(`INSERT INTO unit (name, kind) VALUES (?, ?)
		ON CONFLICT (name) DO UPDATE SET kind = excluded.kind RETURNING id`, name, kind).Scan(&id)
	if err == nil {
		t.ids.units[name] = id
	}
	return id, err
}

func (t *transaction) test(unit int64, suite, name string) (int64, error) {
	return idOf(t, t.ids.tests, testKey{unit, suite, name},
		"SELECT id FROM test WHERE unit = ? AND suite = ? AND name = ?",
		"INSERT INTO test (unit, suite, name) VALUES (?, ?, ?) RETURNING id", unit, suite, name)
}

// revision returns the number of a revision; nil: the project is in no version control.
func (t *transaction) revision(r Revision) (any, error) {
	if r.Hash == "" {
		return nil, nil
	}
	return idOf(t, t.ids.revisions, r,
		"SELECT id FROM revision WHERE hash = ? AND branch = ? AND clean = ?",
		"INSERT INTO revision (hash, branch, clean) VALUES (?, ?, ?) RETURNING id", r.Hash, r.Branch, r.Clean)
}

// milli is a time as it is stored; nil: it has not come.
func milli(t time.Time) any {
	if t.IsZero() {
		return nil
	}
	return t.UnixMilli()
}
