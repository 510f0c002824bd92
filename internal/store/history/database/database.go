// Package database is the file of a project's history: where it is, how it is opened, and its tables, which
// docs/history.md describes.
package database

import (
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"time"

	"modernc.org/sqlite" // the driver "sqlite"
	sqlitelib "modernc.org/sqlite/lib"
)

// FileName is the name of the database in a project's directory of history.
const FileName = "history.sqlite"

// Patience is how long a process waits for another one that writes.
const Patience = 5 * time.Second

// Open opens a database with parameters of the driver. It has one connection.
func Open(file string, parameters ...string) (*sql.DB, error) {
	address := url.URL{
		Scheme:   "file",
		Path:     file,
		RawQuery: fmt.Sprintf("_pragma=busy_timeout(%d)", Patience.Milliseconds()),
	}
	for _, p := range parameters {
		address.RawQuery += "&" + p
	}
	db, err := sql.Open("sqlite", address.String())
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	return db, nil
}

// IsBusy reports whether another process writes the database.
func IsBusy(err error) bool {
	var of *sqlite.Error
	return errors.As(err, &of) && of.Code()&0xff == sqlitelib.SQLITE_BUSY
}
