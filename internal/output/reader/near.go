package reader

import (
	"os"
	"path/filepath"
	"slices"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/output/logbook"
)

// Near returns a log that is read from the files in its folder, while another process writes
// them. It is what api.Client.Near wants.
func Near(folder string, lastSave func() int) api.Log {
	return Log{Source: logbook.Read(folder, false), LastSave: lastSave}
}

// Past returns the log that a session has left in a folder, with its torn end fixed.
func Past(folder string) api.Log {
	return Log{Source: logbook.Read(folder, true)}
}

// Sessions returns the folders of the sessions that have left a log in a folder, the newest
// first.
func Sessions(logs string) []string {
	entries, _ := os.ReadDir(logs)
	var found []string
	for _, e := range slices.Backward(entries) {
		if _, err := time.Parse(logbook.SessionForm, e.Name()); err == nil && e.IsDir() {
			found = append(found, filepath.Join(logs, e.Name()))
		}
	}
	return found
}
