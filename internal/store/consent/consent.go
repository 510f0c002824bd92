// Package consent stores the settings that a user has agreed to run.
//
// A settings file comes with its repository, and starting the project runs whatever the file says. So the user sees
// it and agrees the first time, and whenever its meaning has changed. Answers are kept in the state directory, in one
// file for each project: consent/HASH.json, {"file": PATH, "items": {SHA-256: TEXT}}, with one entry for each Item,
// so that later changes can be shown. Earlier versions kept trust.json, an object from settings file to a list of
// hashes of commands; it still counts for these. Start reading at Items and Store.Ask.
package consent

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"omnivigil/internal/files"
	"omnivigil/internal/plan"
)

// Store is the store of what was agreed to.
type Store struct{ dir string }

// In returns the store in the state directory dir, which need not exist.
func In(dir string) Store { return Store{dir} }

// Answer is the state of a user's agreement to a project.
type Answer struct {
	Known bool // the user has agreed to something of this project
	New   []Item
	Gone  []string // what was agreed to and is gone; unknown if an earlier version asked
}

// Agreed reports whether the settings mean what was agreed to: something that is gone can mean more than something
// new, such as a secret that is no longer masked.
func (a Answer) Agreed() bool { return a.Known && len(a.New) == 0 && len(a.Gone) == 0 }

// record is the stored agreement to one project.
type record struct {
	File  string            `json:"file"`
	Items map[string]string `json:"items"` // texts by hash
	early bool              // written by a version without late items
}

// Ask compares the settings of a project with what the user has agreed to.
func (s Store) Ask(p *plan.Plan) (Answer, error) {
	have, known, err := s.read(p.File)
	a := Answer{Known: known}
	there := map[string]bool{}
	for _, item := range Items(p) {
		hash := item.hash()
		there[hash] = true
		if _, agreed := have.Items[hash]; !agreed && !(have.early && item.late) {
			a.New = append(a.New, item)
		}
	}
	for hash, text := range have.Items {
		if !there[hash] && !have.early {
			a.Gone = append(a.Gone, text)
		}
	}
	a.Gone = summarize(p, a.Gone)
	return a, err
}

// HasMember reports whether the user has agreed to all that the units of a member would run.
func (s Store) HasMember(p *plan.Plan, member string) bool {
	have, _, err := s.read(p.File)
	if err != nil {
		return false
	}
	for _, item := range Items(p) {
		if u := p.Unit(item.Unit); u == nil || u.Member != member {
			continue
		}
		if _, agreed := have.Items[item.hash()]; !agreed {
			return false
		}
	}
	return true
}

// Agreed returns an edited plan without members that are new and to which the user has not agreed, and what to do about
// each. It is an error if the rest needs one.
func (s Store) Agreed(before, edited *plan.Plan) (p *plan.Plan, waits []string, err error) {
	for _, m := range slices.Clone(edited.Members) {
		if before.Member(m.Name) != nil || s.HasMember(edited, m.Name) {
			continue
		}
		const todo = "omnivigil start asks for your consent"
		without, needing := edited.Without(m.Name)
		if needing != "" {
			return nil, nil, fmt.Errorf("%s needs units of the new member %s; %s", needing, m.Name, todo)
		}
		edited, waits = without, append(waits, fmt.Sprintf("the member %s is new; %s", m.Name, todo))
	}
	return edited, waits, nil
}

// summarize sorts the texts of items that are gone; the items of a unit that is gone become one.
func summarize(p *plan.Plan, gone []string) []string {
	slices.Sort(gone)
	for _, text := range slices.Clone(gone) {
		unit, kind, is := strings.Cut(text, " is: ")
		if !is || p.Unit(unit) != nil {
			continue
		}
		gone = slices.DeleteFunc(gone, func(other string) bool { return strings.HasPrefix(other, unit+" ") })
		gone = append(gone, unit+": "+kind)
	}
	slices.Sort(gone)
	return gone
}

// Add stores the user's agreement to the settings of a project. It does not change the files of other projects, so
// several processes may call it at the same time.
func (s Store) Add(p *plan.Plan) error {
	have, known, err := s.read(p.File)
	if err != nil {
		return err
	}
	r := record{File: p.File, Items: map[string]string{}}
	for _, item := range Items(p) {
		r.Items[item.hash()] = item.String()
	}
	if known && !have.early && maps.Equal(have.Items, r.Items) {
		return nil // as at nearly every start
	}
	data, err := json.MarshalIndent(r, "", "  ")
	if err != nil {
		return err
	}
	file := s.of(p.File)
	err = os.MkdirAll(filepath.Dir(file), 0o700)
	if err == nil {
		err = files.Replace(file, append(data, '\n'), 0o600)
	}
	if err != nil {
		return fmt.Errorf("remember the answer: %w", err)
	}
	return nil
}

// of is the file of a project.
func (s Store) of(file string) string {
	sum := sha256.Sum256([]byte(file))
	return filepath.Join(s.dir, "consent", hex.EncodeToString(sum[:16])+".json")
}

func (s Store) read(file string) (r record, known bool, err error) {
	path := s.of(file)
	data, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return s.readEarly(file)
	}
	if err == nil {
		err = json.Unmarshal(data, &r)
	}
	if err != nil {
		return record{}, false, fmt.Errorf("read what was agreed to: %s: %w; delete it to be asked again", path, err)
	}
	return r, true, nil
}

// readEarly returns what an earlier version has stored for a project.
func (s Store) readEarly(file string) (r record, known bool, err error) {
	r = record{File: file, Items: map[string]string{}, early: true}
	path := filepath.Join(s.dir, "trust.json")
	data, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return r, false, nil
	}
	entries := map[string]json.RawMessage{}
	if err == nil {
		err = json.Unmarshal(data, &entries)
	}
	if err != nil {
		return record{}, false, fmt.Errorf("read what was agreed to: %s: %w; delete it to be asked again", path, err)
	}
	var hashes []string
	// The first version stored one hash of everything: the user is asked again.
	if entry, there := entries[file]; !there || json.Unmarshal(entry, &hashes) != nil {
		return r, false, nil
	}
	for _, hash := range hashes {
		r.Items[hash] = ""
	}
	return r, true, nil
}

// Fingerprint identifies everything that a project would run.
func Fingerprint(p *plan.Plan) string {
	var hashes []string
	for _, item := range Items(p) {
		hashes = append(hashes, item.hash())
	}
	slices.Sort(hashes)
	sum := sha256.Sum256([]byte(strings.Join(hashes, "\n")))
	return hex.EncodeToString(sum[:])
}
