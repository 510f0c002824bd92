package changes

import (
	"context"
	"encoding/json"
	"slices"
	"strings"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/api/changes"
	"omnivigil/internal/store/contents"
	"omnivigil/internal/store/history"
	"omnivigil/internal/text/diff"
	"omnivigil/internal/text/escape"
)

// Of returns what a ripple has changed.
func (t *Tracker) Of(ripple int) (changes.Changes, error) {
	t.mu.Lock()
	var of []change
	for _, c := range t.all {
		if c.ripple == ripple {
			of = append(of, c)
		}
	}
	t.mu.Unlock()
	if len(of) == 0 {
		return changes.Changes{}, api.Refuse("no change of ripple %d is kept", ripple)
	}
	return shown(t.store, t.source.Clean, of), nil
}

// Since returns how files differ from what they were at a time.
func (t *Tracker) Since(at time.Time, paths []string) changes.Changes {
	t.mu.Lock()
	net := map[string]*change{}
	for _, c := range t.all {
		if !slices.Contains(paths, c.path) || !c.at.After(at) {
			continue
		}
		if first := net[c.path]; first != nil {
			first.after, first.ripple, first.reverts = c.after, c.ripple, 0
		} else {
			net[c.path] = &c
		}
	}
	t.mu.Unlock()
	var all []change
	for _, p := range paths {
		if c := net[p]; c != nil && !c.before.same(c.after) {
			all = append(all, *c)
		}
	}
	out := shown(t.store, t.source.Clean, all)
	out.Since = at
	return out
}

// Earlier returns what a ripple of an earlier session has changed, as it is in the history.
func Earlier(ctx context.Context, store *contents.Store,
	read func(ctx context.Context, ripple int) ([]history.Change, error), ripple int,
) (changes.Changes, error) {
	kept, err := read(ctx, ripple)
	if err != nil {
		return changes.Changes{}, err
	}
	if len(kept) == 0 {
		return changes.Changes{}, api.Refuse("no change of ripple %d is kept", ripple)
	}
	var all []change
	for _, k := range kept {
		c := change{ripple: ripple, path: k.Path, at: k.At, reverts: k.Reverts}
		if err := json.Unmarshal(k.Before, &c.before); err != nil {
			return changes.Changes{}, err
		}
		if err := json.Unmarshal(k.After, &c.after); err != nil {
			return changes.Changes{}, err
		}
		all = append(all, c)
	}
	return shown(store, escape.Lines, all), nil
}

// shown converts changes for faces; clean makes text safe to show.
func shown(store *contents.Store, clean func(string) string, all []change) changes.Changes {
	out := changes.Changes{Files: []changes.File{}}
	slices.SortFunc(all, func(a, b change) int { return strings.Compare(a.path, b.path) })
	if more := len(all) - changes.MaxFiles; more > 0 {
		all, out.More = all[:changes.MaxFiles], more
	}
	for i, c := range all {
		out.Files = append(out.Files, c.file(store, clean))
		if i == 0 {
			out.Reverts = c.reverts
		}
		if c.reverts != out.Reverts {
			out.Reverts = 0
		}
	}
	return out
}

// file converts a change for faces. It reads its contents.
func (c change) file(store *contents.Store, clean func(string) string) changes.File {
	f := changes.File{Path: clean(c.path), Kind: changes.Changed, Reverts: c.reverts}
	switch {
	case c.before.Absent:
		f.Kind = changes.Added
	case c.after.Absent:
		f.Kind = changes.Removed
	}
	before, note := c.before.text(store)
	after, afterNote := c.after.text(store)
	switch {
	case afterNote != "":
		note = afterNote
	case note == "" && f.Kind == changes.Changed && before == after:
		note = "only line endings changed"
	}
	if f.Note = note; note != "" {
		return f
	}
	hunks, err := diff.Of(clean(before), clean(after))
	if err != nil {
		f.Note = err.Error()
		return f
	}
	f.Hunks = hunks
	f.Added, f.Removed = diff.Counts(hunks)
	return f
}

// text returns the contents of a state with the line endings of Unix, or why they are not known.
func (s state) text(store *contents.Store) (text, note string) {
	if s.Content == nil {
		return "", s.Note
	}
	data, err := store.Read(*s.Content, maxFile)
	if err != nil {
		return "", "its contents are no longer kept"
	}
	return strings.ReplaceAll(string(data), "\r\n", "\n"), ""
}
