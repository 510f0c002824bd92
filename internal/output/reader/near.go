package reader

import (
	"os"
	"path/filepath"
	"slices"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/output/lens"
	"omnivigil/internal/output/logbook"
)

// Near returns a log that is read from the files in its directory while another process writes them, as for
// api.Client.Near.
func Near(folder string, lastSave func() api.Save, asWritten func(unit string) bool) api.Log {
	return Log{Source: logbook.Read(folder, false), LastSave: lastSave, AsWritten: asWritten,
		Census: &lens.Census{}}
}

// Past returns the log of an ended session in a directory, with its incomplete end repaired.
func Past(folder string) api.Log {
	return Log{Source: logbook.Read(folder, true), Census: &lens.Census{}}
}

// Sessions returns the directories of the sessions with a log in a directory, newest first.
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
