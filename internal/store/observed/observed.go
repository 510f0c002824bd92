// Package observed stores what units were seen to do, across sessions.
//
// What was seen belongs to a command and its program: it is discarded when one of them has changed. The state directory
// holds a JSON file for each unit, named by hashes of the project's directory and the unit's name.
package observed

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"path/filepath"

	"omnivigil/internal/files"
	"omnivigil/internal/plan"
	"omnivigil/internal/process/observe"
	"omnivigil/internal/store/reuse"
)

// Record is what the units of a project were seen to do. Its methods may be called from any goroutine; they read and
// write files.
type Record struct{ dir string }

// In returns the record in the state directory dir, which need not exist.
func In(dir, root string) *Record {
	return &Record{filepath.Join(dir, "observed", hashed(root))}
}

func hashed(text string) string {
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:12])
}

// entry is the content of a file.
type entry struct {
	Command string
	Seen    observe.Seen
}

// Command identifies what a unit runs: its command, its directory, and the program's path, size and time.
func Command(u *plan.Unit) string {
	return hashed(fmt.Sprintf("%q %q %q", u.Run.Argv(), u.Dir, reuse.Program(u)))
}

// Load returns what was stored of a unit with the same command; without such, nothing was seen.
func (r *Record) Load(u *plan.Unit) observe.Seen {
	data, err := files.Read(r.fileOf(u), maxSize)
	var e entry
	if err != nil || json.Unmarshal(data, &e) != nil || e.Command != Command(u) {
		return observe.Seen{}
	}
	return e.Seen
}

const maxSize = 64 << 20

// maxPaths limits the stored paths of a unit.
const maxPaths = 20_000

// Keep stores what a unit was seen to read, write and talk to. What it only looked for is not stored.
func (r *Record) Keep(u *plan.Unit, s observe.Seen) error {
	const told = observe.Read | observe.Written | observe.Created | observe.Removed
	kept := s
	kept.Paths = nil
	for _, p := range s.Paths {
		if p.Access.Any(told) && len(kept.Paths) < maxPaths {
			kept.Paths = append(kept.Paths, p)
		}
	}
	kept.Programs = nil // arguments may have secrets
	e := entry{Command(u), kept}
	err := files.KeepCache(r.fileOf(u), func(w io.Writer) error { return json.NewEncoder(w).Encode(e) })
	if err != nil {
		return fmt.Errorf("remember what %s was seen to do: %w", u.Name, err)
	}
	return nil
}

func (r *Record) fileOf(u *plan.Unit) string { return filepath.Join(r.dir, hashed(u.Name)+".json") }
