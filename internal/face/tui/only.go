package tui

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"omnivigil/internal/face/tui/lanes"
	"omnivigil/internal/face/tui/overview"
	"omnivigil/internal/face/tui/view"
	"omnivigil/internal/text/format"
	"omnivigil/internal/text/suggest"
)

// onlyUnits runs only the named units, groups and selections, or everything again.
func onlyUnits(m *view.Model, args []string) error {
	var units []string
	for _, name := range args {
		if selection, is := strings.CutPrefix(name, "@"); is {
			known := m.Selections[strings.ToLower(selection)]
			if known == nil {
				hint := suggest.Hint(selection, slices.Sorted(maps.Keys(m.Selections)))
				return fmt.Errorf("there is no selection %s; %s", name, hint)
			}
			known = m.Snap.Project.Has(m.Snap.UnitNames(), known)
			if len(known) == 0 {
				return fmt.Errorf("no unit of %s is in this project", name)
			}
			units = append(units, known...)
			continue
		}
		units = append(units, name)
	}
	overview.RunOnly(m, units)
	return nil
}

// saveSelection saves the units that the lanes show, or else all enabled ones, under a name.
func saveSelection(m *view.Model, args []string) error {
	if len(args) != 1 || m.SaveSelection == nil {
		return errors.New("save-selection takes one name")
	}
	var units []string
	for _, u := range m.Live.Units {
		if m.Filter == "" && u.Wanted || m.Filter != "" && lanes.Matches(m, u, m.Filter) {
			units = append(units, u.Name)
		}
	}
	name, save := strings.TrimPrefix(args[0], "@"), m.SaveSelection
	m.Later(func(context.Context) view.Then {
		err := save(name, units)
		return func() { m.Saved(err, fmt.Sprintf("saved %s as @%s", format.Count(len(units), "unit"), name)) }
	})
	return nil
}
