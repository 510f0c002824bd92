package database

import (
	"path/filepath"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestMigrate brings a database of each version to the newest one. What it has stays.
func TestMigrate(t *testing.T) {
	for version := 1; version < Version; version++ {
		db, err := Open(filepath.Join(t.TempDir(), FileName))
		require.NoError(t, err)
		for n := range version {
			_, err = db.Exec(migrations[n])
			require.NoError(t, err)
		}
		_, err = db.Exec("INSERT INTO session (name, began, once) VALUES ('one', 5, 0)")
		require.NoError(t, err)
		_, err = db.Exec("PRAGMA user_version = " + strconv.Itoa(version))
		require.NoError(t, err)
		require.NoError(t, Migrate(db))
		var name string
		var got int
		require.NoError(t, db.QueryRow("SELECT name FROM session WHERE state IS NULL").Scan(&name))
		require.NoError(t, db.QueryRow("PRAGMA user_version").Scan(&got))
		assert.Equal(t, "one", name)
		assert.Equal(t, Version, got)
		_, err = db.Exec("PRAGMA user_version = 99")
		require.NoError(t, err)
		require.ErrorIs(t, Migrate(db), ErrNewer)
		require.NoError(t, db.Close())
	}
}
