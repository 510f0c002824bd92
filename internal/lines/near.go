package lines

import (
	"omnivigil/internal/api"
	"omnivigil/internal/logbook"
)

// Near returns a log that is read from the files in its folder, while another process writes
// them. It is what api.Client.Near wants.
func Near(folder string, lastSave func() int) api.Log {
	return Log{Source: logbook.Read(folder, false), LastSave: lastSave}
}
