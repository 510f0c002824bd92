package api

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"

	"omnivigil/internal/files"
)

// snapshotFile has the newest snapshot of a session, in the directory of its log.
const snapshotFile = "project.json"

// KeepSnapshot writes a snapshot into the directory of its session's log, and replaces an earlier one. It blocks
// while it writes.
func KeepSnapshot(dir string, s *Snapshot) error {
	data, err := json.Marshal(s)
	if err == nil {
		err = files.ReplaceCache(filepath.Join(dir, snapshotFile), files.Bytes(data))
	}
	if err != nil {
		return fmt.Errorf("keep how the project is: %w", err)
	}
	return nil
}

// KeptSnapshot reads the last snapshot that KeepSnapshot wrote.
func KeptSnapshot(dir string) (*Snapshot, error) {
	data, err := os.ReadFile(filepath.Join(dir, snapshotFile))
	if err != nil {
		return nil, fmt.Errorf("read how the project was: %w", err)
	}
	s := &Snapshot{}
	if err := json.Unmarshal(data, s); err != nil {
		return nil, fmt.Errorf("read how the project was: %s: %w", filepath.Join(dir, snapshotFile), err)
	}
	return s, nil
}
