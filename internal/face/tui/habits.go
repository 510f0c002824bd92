package tui

import (
	"fmt"
	"slices"
	"strings"

	"omnivigil/internal/face/tui/view"
)

// Habits are what a user likes to have in all projects. The zero value is what the screen has
// by itself.
type Habits struct {
	Theme  string              // "dark", "light"; else as the terminal's ground is
	Notify string              // "desktop", "bell", "off"; else "desktop"
	Editor string              // a command; empty: $VISUAL, $EDITOR
	Keys   map[string][]string // by action
}

// Actions returns the names of what keys can be chosen for, in the order of the help, and which
// keys they have by themselves.
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

// Clashes says which keys that a user has chosen mean two things. The first of them, in the
// order of the help, is what such a key does.
func Clashes(keys map[string][]string) []string {
	_, clashes := tableWith(keys)
	return clashes
}

// tableWith is the table of keys with those that a user has chosen.
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

// adopt takes a user's habits over.
func (r *root) adopt(h Habits, problems []string) {
	r.habits, r.Theme, r.Editor = h, h.Theme, h.Editor
	table, clashes := tableWith(h.Keys)
	r.Table = table
	r.own = strings.Join(append(problems, clashes...), "; ")
	r.Look(r.Ground)
}

// reread looks whether the user has edited their file.
func (r *root) reread() {
	if r.habitsNow == nil {
		return
	}
	if h, problems, changed := r.habitsNow(); changed {
		r.adopt(h, problems)
	}
}
