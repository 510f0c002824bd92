package tui

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"omnivigil/internal/face/tui/view"
)

// Habits are a user's preferences for all projects. The zero value has the defaults.
type Habits struct {
	Theme  string // "dark" or "light"; otherwise the terminal's background decides
	Notify string // "desktop" (the default), "bell" or "off"
	Editor string // a command; empty: $VISUAL, $EDITOR
	// Leave is how long the project waits for another screen if this one is lost; 0: it ends at once.
	Leave time.Duration
	Keys  map[string][]string // by action
	// Selections are names of units and groups, by the name of the selection in lower case.
	Selections map[string][]string
}

// Actions returns the names of the actions whose keys can be changed, in the order of the help, and their default keys.
func Actions() (names []string, keys map[string][]string) {
	keys = map[string][]string{}
	for _, b := range bindings {
		if b.Action != "" {
			names = append(names, b.Action)
			keys[b.Action] = b.Keys
		}
	}
	return names, keys
}

// Clashes reports the keys of a user that have two meanings. Such a key has the first of them in the order of the help.
func Clashes(keys map[string][]string) []string {
	_, clashes := tableWith(keys)
	return clashes
}

// tableWith returns the bindings with a user's keys, and the keys that have two meanings.
func tableWith(keys map[string][]string) (table []view.Binding, clashes []string) {
	table = slices.Clone(bindings)
	of := map[string]*view.Binding{}
	for i := range table {
		b := &table[i]
		if own, chosen := keys[b.Action]; chosen && b.Action != "" {
			b.Keys = own
		}
		if b.Action == "" {
			continue
		}
		for _, k := range b.Keys {
			if before := of[k]; before != nil {
				clashes = append(
					clashes,
					fmt.Sprintf("the key %s is that of %s and of %s: it does the first", k, before.Action, b.Action),
				)
				continue
			}
			of[k] = b
		}
	}
	return table, clashes
}

// adopt applies a user's preferences, and shows what is wrong with the file.
func (r *root) adopt(h Habits, problems []string) {
	r.habits, r.Theme, r.Editor, r.Selections = h, h.Theme, h.Editor, h.Selections
	table, clashes := tableWith(h.Keys)
	r.Table = table
	r.own = strings.Join(append(problems, clashes...), "; ")
	r.SetGround(r.Ground)
}

// reread applies the personal file if the user has edited it.
func (r *root) reread() {
	if r.habitsNow == nil {
		return
	}
	if h, problems, changed := r.habitsNow(); changed {
		r.adopt(h, problems)
	}
}
