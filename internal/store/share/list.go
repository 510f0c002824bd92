package share

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"
)

// Listed is a result that the share is said to have.
type Listed struct {
	Unit string    `json:"unit"`
	Key  string    `json:"key"`
	At   time.Time `json:"at"` // when its run ended
}

// maxListed is how many results a list has: the newest ones.
const maxListed = 2000

// listName is the object with the list of a project.
func listName(project string) string {
	sum := sha256.Sum256([]byte(project))
	return "lists/" + hex.EncodeToString(sum[:16]) + ".json"
}

// isKey reports whether a text can be a key: others could name any object.
func isKey(text string) bool {
	_, err := hex.DecodeString(text)
	return err == nil && len(text) == 2*sha256.Size
}

// errList reports that a list is damaged.
var errList = errors.New("the share's list cannot be read")

// Recent returns results of the project that the share is said to have, the newest first. The list is not signed, and
// may lack some, because those who write it do not wait for each other: it is only a hint.
func (s *Share) Recent(ctx context.Context) (all []Listed, err error) {
	data, err := s.read(ctx, listName(s.Project))
	switch {
	case errors.Is(err, ErrAbsent):
		return nil, nil
	case err != nil:
		return nil, err
	}
	if err := json.Unmarshal(data, &all); err != nil {
		return nil, fmt.Errorf("%w: %w", errList, err)
	}
	all = slices.DeleteFunc(all, func(l Listed) bool { return !isKey(l.Key) })
	return newest(all), nil
}

// newest are the newest results, each once.
func newest(all []Listed) []Listed {
	slices.SortStableFunc(all, func(a, b Listed) int {
		return cmp.Or(b.At.Compare(a.At), cmp.Compare(a.Key, b.Key))
	})
	seen := map[string]bool{}
	all = slices.DeleteFunc(all, func(l Listed) bool {
		known := seen[l.Key]
		seen[l.Key] = true
		return known
	})
	return all[:min(len(all), maxListed)]
}

// list adds what was sent to the list.
func (s *Share) list(ctx context.Context, sent []Listed) error {
	if len(sent) == 0 {
		return nil
	}
	all, err := s.Recent(ctx)
	if err != nil && !errors.Is(err, errList) { // a damaged one is replaced
		return err
	}
	data, err := json.Marshal(newest(append(sent, all...)))
	if err != nil {
		return err
	}
	return s.put(ctx, listName(s.Project), data)
}
