package database

import (
	"database/sql"
	"errors"
	"fmt"
)

// migrations bring a database from each version to the next one. Version 0 is an empty file. docs/history.md documents
// the newest.
var migrations = []string{`
CREATE TABLE session (
	id    INTEGER PRIMARY KEY,
	name  TEXT NOT NULL UNIQUE,           -- as its directory of logs is named
	began INTEGER NOT NULL,
	ended INTEGER,                        -- NULL: it is running, or was killed
	once  INTEGER NOT NULL                -- 1: of the command once
);
CREATE TABLE revision (
	id     INTEGER PRIMARY KEY,
	hash   TEXT NOT NULL,                 -- of the commit
	branch TEXT NOT NULL,                 -- '': none is checked out
	clean  INTEGER NOT NULL,              -- 1: as committed; 0: changed; -1: not known
	UNIQUE (hash, branch, clean)
);
CREATE TABLE unit (
	id   INTEGER PRIMARY KEY,
	name TEXT NOT NULL UNIQUE,
	kind TEXT NOT NULL
);
CREATE TABLE ripple (
	id       INTEGER PRIMARY KEY,
	session  INTEGER NOT NULL REFERENCES session ON DELETE CASCADE,
	number   INTEGER NOT NULL,
	cause    TEXT NOT NULL,
	title    TEXT NOT NULL,
	since    INTEGER NOT NULL,            -- the first event of a file, or the time of the cause
	rest     INTEGER NOT NULL,            -- when everything was at rest
	outcome  TEXT NOT NULL,
	detail   TEXT NOT NULL,
	paths    TEXT NOT NULL,               -- a JSON array
	units    TEXT NOT NULL,               -- that it ran, in order of their names, with a space between
	loaded   INTEGER NOT NULL,            -- 1: other programs used a quarter of the machine or more
	revision INTEGER REFERENCES revision,
	UNIQUE (session, number)
);
CREATE INDEX ripple_since ON ripple (since);
CREATE TABLE run (
	id       INTEGER PRIMARY KEY,
	session  INTEGER NOT NULL REFERENCES session ON DELETE CASCADE,
	unit     INTEGER NOT NULL REFERENCES unit,
	number   INTEGER NOT NULL,
	ripple   INTEGER NOT NULL,            -- the number of the one that caused it
	because  TEXT NOT NULL,
	command  TEXT NOT NULL,               -- if it is not the unit's own
	began    INTEGER NOT NULL,            -- when it was ordered
	ready    INTEGER,
	ended    INTEGER NOT NULL,
	took     INTEGER,                     -- microseconds of a good run, or until a service was ready; NULL: neither
	outcome  TEXT NOT NULL,               -- done, failed, crashed, stopped, reused
	exit     TEXT NOT NULL,               -- in words
	problem  TEXT NOT NULL,
	loaded   INTEGER NOT NULL,            -- as in ripple
	memory   INTEGER,                     -- the median of the resident bytes; NULL: it was too short to be measured
	output   INTEGER NOT NULL,            -- bytes
	findings INTEGER,                     -- errors and warnings at its end; NULL: its output is not read
	spans    TEXT NOT NULL,               -- a JSON array of {phase, from, to, step, on}
	revision INTEGER REFERENCES revision,
	UNIQUE (session, unit, number)
);
CREATE INDEX run_unit ON run (unit, began);
CREATE INDEX run_began ON run (began);
CREATE INDEX run_ended ON run (ended);
CREATE TABLE unit_day (                   -- the runs of a unit that ended on a day, when the day is over
	unit    INTEGER NOT NULL REFERENCES unit,
	day     INTEGER NOT NULL,             -- of the calendar where it was written, since 1970-01-01
	runs    INTEGER NOT NULL,
	broken  INTEGER NOT NULL,             -- that failed or crashed
	least   INTEGER NOT NULL,             -- microseconds, of good runs
	quarter INTEGER NOT NULL,
	median  INTEGER NOT NULL,
	three   INTEGER NOT NULL,             -- three quarters took at most as long
	most    INTEGER NOT NULL,
	memory  INTEGER NOT NULL,             -- the median of the medians of runs; 0: not measured
	last    INTEGER NOT NULL,             -- when the last one began
	bad     INTEGER NOT NULL,             -- when the last one began that failed or crashed; 0: none did
	good    INTEGER NOT NULL,             -- when the last good one began; 0: none was
	PRIMARY KEY (unit, day)
) WITHOUT ROWID;
CREATE TABLE pass (
	run    INTEGER NOT NULL REFERENCES run ON DELETE CASCADE,
	number INTEGER NOT NULL,
	began  INTEGER NOT NULL,
	took   INTEGER NOT NULL,
	good   INTEGER NOT NULL,
	saw    TEXT NOT NULL,
	PRIMARY KEY (run, number)
) WITHOUT ROWID;
CREATE TABLE test (
	id    INTEGER PRIMARY KEY,
	unit  INTEGER NOT NULL REFERENCES unit,
	suite TEXT NOT NULL,
	name  TEXT NOT NULL,
	UNIQUE (unit, suite, name)
);
CREATE TABLE result (
	run     INTEGER PRIMARY KEY REFERENCES run ON DELETE CASCADE,
	unit    INTEGER NOT NULL REFERENCES unit,
	began   INTEGER NOT NULL,
	passed  INTEGER NOT NULL,
	failed  INTEGER NOT NULL,
	skipped INTEGER NOT NULL,
	same    INTEGER NOT NULL,             -- 1: nothing that affects the unit had changed since its run before
	failures TEXT NOT NULL,               -- a JSON array of the tests that failed
	cases   TEXT                          -- a JSON array of [test, status, microseconds]; NULL after fourteen days
);
CREATE INDEX result_unit ON result (unit, began);
CREATE TABLE test_day (                   -- the results of a test in the runs that ended on a day, when it is over
	test    INTEGER NOT NULL REFERENCES test,
	day     INTEGER NOT NULL,             -- as in unit_day
	runs    INTEGER NOT NULL,
	failed  INTEGER NOT NULL,
	flaky   INTEGER NOT NULL,             -- failures without a change
	least   INTEGER NOT NULL,             -- microseconds, of those that passed
	quarter INTEGER NOT NULL,
	median  INTEGER NOT NULL,
	three   INTEGER NOT NULL,             -- three quarters took at most as long
	most    INTEGER NOT NULL,
	PRIMARY KEY (test, day)
) WITHOUT ROWID;
CREATE TABLE finding (
	id       INTEGER PRIMARY KEY,
	unit     INTEGER NOT NULL REFERENCES unit,
	file     TEXT NOT NULL,               -- relative to the project's directory, if it is within
	line     INTEGER NOT NULL,
	severity TEXT NOT NULL,
	rule     TEXT NOT NULL,
	message  TEXT NOT NULL,
	first    INTEGER NOT NULL,            -- when a run reported it as new
	gone     INTEGER                      -- when a run no longer reported it
);
CREATE INDEX finding_unit ON finding (unit, first);
CREATE TABLE sample (                     -- what a unit uses from a time on; thinned with age
	session INTEGER NOT NULL REFERENCES session ON DELETE CASCADE,
	unit    INTEGER NOT NULL REFERENCES unit,
	at      INTEGER NOT NULL,
	cpu     REAL NOT NULL,                -- of one core
	memory  INTEGER NOT NULL,             -- resident bytes
	output  INTEGER NOT NULL,             -- bytes written since the session began
	PRIMARY KEY (session, unit, at)
) WITHOUT ROWID;
CREATE TABLE trend (
	id        INTEGER PRIMARY KEY,
	kind      TEXT NOT NULL,              -- higher, lower, grows, flaky
	unit      INTEGER REFERENCES unit,    -- NULL: it is about several
	test      INTEGER REFERENCES test,    -- NULL: it is about the unit
	units     TEXT NOT NULL,              -- of rest: as in ripple
	measure   TEXT NOT NULL,              -- duration, rest, memory, output, findings, failures
	found     INTEGER NOT NULL,
	since     INTEGER NOT NULL,           -- the first run after it
	run       INTEGER NOT NULL,           -- the number of that run
	before    REAL NOT NULL,
	after     REAL NOT NULL,
	text      TEXT NOT NULL,
	changes   TEXT NOT NULL,              -- JSON: the files and commits between the last run before it and that run
	ended     INTEGER,                    -- of grows: when a later run no longer grew; NULL: none has
	dismissed INTEGER NOT NULL DEFAULT 0
);
CREATE INDEX trend_found ON trend (found);
`, `
ALTER TABLE session ADD COLUMN seen INTEGER; -- when its state was written
ALTER TABLE session ADD COLUMN state BLOB;   -- the newest snapshot (docs/api.md), JSON compressed with Zstandard
CREATE TABLE verdict (                    -- the verdict of a session from a time on
	session INTEGER NOT NULL REFERENCES session ON DELETE CASCADE,
	at      INTEGER NOT NULL,
	word    TEXT NOT NULL,
	text    TEXT NOT NULL,                -- what follows the word
	turned  TEXT NOT NULL,                -- bad, good: with it, the project turned; '': neither
	PRIMARY KEY (session, at)
) WITHOUT ROWID;
`, `
CREATE TABLE change (                     -- what a ripple has changed
	session INTEGER NOT NULL REFERENCES session ON DELETE CASCADE,
	ripple  INTEGER NOT NULL,
	path    TEXT NOT NULL,                -- relative to the project's directory
	at      INTEGER NOT NULL,
	before  TEXT NOT NULL,                -- JSON: {"sum", "size"} of a content, {"absent": true}, or {"note"}
	after   TEXT NOT NULL,
	reverts INTEGER NOT NULL,             -- the ripple whose change it takes back; 0: none
	PRIMARY KEY (session, ripple, path)
) WITHOUT ROWID;
`}

// Version is the version of the schema.
var Version = len(migrations)

// ErrNewer reports that a database is of a newer version of the program. It is left as it is.
var ErrNewer = errors.New("it was written by a newer version of Omnivigil")

// Migrate brings the database to the newest version, in one transaction for each version.
func Migrate(db *sql.DB) error {
	var version int
	if err := db.QueryRow("PRAGMA user_version").Scan(&version); err != nil {
		return err
	}
	if version > Version {
		return ErrNewer
	}
	for version < Version {
		tx, err := db.Begin()
		if err != nil {
			return err
		}
		defer tx.Rollback()
		// Another process may have done it meanwhile.
		if err := tx.QueryRow("PRAGMA user_version").Scan(&version); err != nil || version >= Version {
			return err
		}
		if _, err := tx.Exec(migrations[version]); err != nil {
			return fmt.Errorf("version %d: %w", version+1, err)
		}
		if _, err := tx.Exec(fmt.Sprintf("PRAGMA user_version = %d", version+1)); err != nil {
			return err
		}
		if err := tx.Commit(); err != nil {
			return err
		}
		version++
	}
	return nil
}
