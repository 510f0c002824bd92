// Package trust remembers which projects' commands a person has agreed to run.
//
// A project's file comes with its repository, and starting it runs whatever the
// file says, so the first time, and whenever what would run has changed, the
// person sees it and says yes. What was agreed to is kept in the state folder, in
// trust.json: an object from settings file to a list of hashes (SHA-256), one for each
// Item, so that what has changed since can be marked.
package trust

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"omnivigil/internal/plan"
)

// Store is the record of what was agreed to.
type Store struct{ file string }

// In returns the store in the state folder dir, which need not exist.
func In(dir string) Store { return Store{filepath.Join(dir, "trust.json")} }

// Answer is what is known of a person's agreement to a project.
type Answer struct {
	Known bool // the person has agreed to something of this project
	New   []Item
	Gone  int // how many things that were agreed to are no longer there
}

// Agreed reports whether nothing is there that was not agreed to.
func (a Answer) Agreed() bool { return a.Known && len(a.New) == 0 }

// Ask compares what a project would run with what the person has agreed to.
func (s Store) Ask(p *plan.Plan) (Answer, error) {
	agreed, err := s.read()
	hashes, known := agreed[p.File]
	a := Answer{Known: known}
	var still int
	for _, item := range Items(p) {
		if slices.Contains(hashes, item.hash()) {
			still++
		} else {
			a.New = append(a.New, item)
		}
	}
	a.Gone = len(hashes) - still
	return a, err
}

// Add notes that the person agrees to all that the project would run.
func (s Store) Add(p *plan.Plan) error {
	agreed, err := s.read()
	if err != nil {
		return err
	}
	var hashes []string
	for _, item := range Items(p) {
		hashes = append(hashes, item.hash())
	}
	slices.Sort(hashes)
	agreed[p.File] = slices.Compact(hashes)
	data, err := json.MarshalIndent(agreed, "", "  ")
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(s.file), 0o700); err != nil {
		return fmt.Errorf("remember the answer: %w", err)
	}
	// Written aside and renamed, so that a crash leaves the old record whole.
	aside := s.file + ".new"
	err = os.WriteFile(aside, append(data, '\n'), 0o600)
	if err == nil {
		err = os.Rename(aside, s.file)
	}
	if err != nil {
		os.Remove(aside)
		return fmt.Errorf("remember the answer: %w", err)
	}
	return nil
}

func (s Store) read() (map[string][]string, error) {
	agreed := map[string][]string{}
	data, err := os.ReadFile(s.file)
	if errors.Is(err, fs.ErrNotExist) {
		return agreed, nil
	}
	if err != nil {
		return agreed, fmt.Errorf("read what was agreed to: %w", err)
	}
	// Answers of an earlier version are single hashes of everything: those are asked again.
	entries := map[string]json.RawMessage{}
	if err := json.Unmarshal(data, &entries); err != nil {
		return agreed, fmt.Errorf("read what was agreed to: %s: %w; delete it to be asked again", s.file, err)
	}
	for file, entry := range entries {
		var hashes []string
		if json.Unmarshal(entry, &hashes) == nil {
			agreed[file] = hashes
		}
	}
	return agreed, nil
}

// Fingerprint tells all that a project would run from anything else.
func Fingerprint(p *plan.Plan) string {
	var hashes []string
	for _, item := range Items(p) {
		hashes = append(hashes, item.hash())
	}
	slices.Sort(hashes)
	sum := sha256.Sum256([]byte(strings.Join(hashes, "\n")))
	return hex.EncodeToString(sum[:])
}
