package client

import (
	"path/filepath"
	"strconv"

	"omnivigil/internal/api"
	"omnivigil/internal/api/exit"
)

// Last names the newest ripple of a save and the newest session, in all commands.
const Last = "last"

// RippleNamed returns the ripple with a number or, for Last, that of the newest save; without a save, the newest one.
func RippleNamed(snap *api.Snapshot, name string) (*api.Ripple, error) {
	number, err := strconv.Atoi(name)
	if name == Last {
		if n := len(snap.Ripples); n > 0 {
			number, err = snap.Ripples[n-1].ID, nil
		}
		if n := len(snap.Saves); n > 0 {
			number = snap.Saves[n-1].Ripple
		}
	}
	if err != nil || number < 1 {
		return nil, exit.Refuse("omnivigil: a ripple is named by its number, such as 7, or last, not %q", name)
	}
	if r := snap.Ripple(number); r != nil {
		return r, nil
	}
	newest := 0
	if n := len(snap.Ripples); n > 0 {
		newest = snap.Ripples[n-1].ID
	}
	return nil, exit.Refuse("omnivigil: ripple %d is not known; the newest is %d", number, newest)
}

// SessionNamed returns the directory of a session: by its number, of which 1 is the newest, by its name, or Last. Found
// are all with a log, newest first.
func SessionNamed(found []string, name string) (string, error) {
	if name == Last {
		name = "1"
	}
	for i, dir := range found {
		if strconv.Itoa(i+1) == name || filepath.Base(dir) == name {
			return dir, nil
		}
	}
	return "", exit.Refuse(
		"omnivigil: there is no session %s with a log. omnivigil logs --sessions tells which there are.", name)
}
