// Package trust remembers which projects' commands a person has agreed to run.
//
// A project's file comes with its repository, and starting it runs whatever the
// file says, so the first time, and whenever the commands have changed, the
// person sees them and says yes. What was agreed to is kept as a hash in the
// state folder, in trust.json: an object from settings file to SHA-256.
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

	"omnivigil/internal/plan"
)

// Store is the record of what was agreed to.
type Store struct{ file string }

// In returns the store in the state folder dir, which need not exist.
func In(dir string) Store { return Store{filepath.Join(dir, "trust.json")} }

// Has reports whether exactly these commands of this project were agreed to.
func (s Store) Has(p *plan.Plan) (bool, error) {
	agreed, err := s.read()
	return agreed[p.File] == fingerprint(p), err
}

// Add notes that the person agrees to the project's commands.
func (s Store) Add(p *plan.Plan) error {
	agreed, err := s.read()
	if err != nil {
		return err
	}
	agreed[p.File] = fingerprint(p)
	data, err := json.MarshalIndent(agreed, "", "  ")
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(s.file), 0o700); err != nil {
		return fmt.Errorf("remember the answer: %w", err)
	}
	// Written aside and renamed, so that a crash leaves the old record whole.
	aside := s.file + ".new"
	if err := os.WriteFile(aside, append(data, '\n'), 0o600); err != nil {
		return fmt.Errorf("remember the answer: %w", err)
	}
	return os.Rename(aside, s.file)
}

func (s Store) read() (map[string]string, error) {
	agreed := map[string]string{}
	data, err := os.ReadFile(s.file)
	if errors.Is(err, fs.ErrNotExist) {
		return agreed, nil
	}
	if err != nil {
		return agreed, fmt.Errorf("read what was agreed to: %w", err)
	}
	if err := json.Unmarshal(data, &agreed); err != nil {
		return agreed, fmt.Errorf("read what was agreed to: %s: %w", s.file, err)
	}
	return agreed, nil
}

// fingerprint covers everything that decides what is executed, and where.
func fingerprint(p *plan.Plan) string {
	h := sha256.New()
	for _, u := range p.Units {
		fmt.Fprintf(h, "%q %q %q %q\n", u.Name, u.Run.Argv(), u.Dir, u.OwnEnv)
		for _, step := range slices.Concat(u.Setup, u.Prelude) {
			fmt.Fprintf(h, "%q\n", step.Run.Argv())
		}
		for _, c := range []*plan.Command{u.Ready.Run, u.Stop.Run} {
			if c != nil {
				fmt.Fprintf(h, "%q\n", c.Argv())
			}
		}
		for _, re := range u.Reactions {
			if re.Run != nil {
				fmt.Fprintf(h, "%q %q\n", re.When.Text, re.Run.Argv())
			}
		}
	}
	return hex.EncodeToString(h.Sum(nil))
}
