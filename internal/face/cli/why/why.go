// Package why prints the answers of the command why: why a unit is in its state, or what a save of a path would set
// off.
package why

import (
	"os"
	"path/filepath"
	"slices"
	"strings"

	"omnivigil/internal/api"
	"omnivigil/internal/api/exit"
	"omnivigil/internal/face/card"
	"omnivigil/internal/face/client"
)

// Questions are answered by the running project or, if it is not running, by its settings.
type Questions struct {
	Units  []string                              // their names
	Impact func(path string) (api.Impact, error) // of a save
	// The following are nil if the project is not running.
	Snap    *api.Snapshot
	Explain func(unit string) (api.Explanation, error)
}

// Answer prints the answer for a name of a unit, or for a path.
func (q Questions) Answer(name string, asJSON bool) error {
	if slices.Contains(q.Units, name) {
		return q.answerUnit(name, asJSON)
	}
	abs, err := filepath.Abs(name)
	if err != nil {
		return exit.Refuse("omnivigil: %v", err)
	}
	f, err := q.Impact(abs)
	switch {
	case err != nil:
		return exit.With(exit.Failed, err)
	case asJSON:
		return client.PrintJSON(f)
	}
	sayImpact(f, q.Snap)
	return nil
}

func (q Questions) answerUnit(name string, asJSON bool) error {
	if q.Explain == nil {
		return exit.Refuse("omnivigil: %s is a unit, and the project is not running: start it with omnivigil, or "+
			"name a path as ./%[1]s", name)
	}
	e, err := q.Explain(name)
	switch {
	case err != nil:
		return exit.With(exit.Failed, err)
	case asJSON:
		return client.PrintJSON(e)
	}
	card.Write(os.Stdout, e, q.Snap.Project.Root, q.Snap.At)
	return nil
}

func sayImpact(f api.Impact, snap *api.Snapshot) {
	client.Say(os.Stdout, "%s", strings.Join(f.Text, "\n"))
	if snap == nil {
		return
	}
	for _, act := range f.Acts {
		if u := snap.Unit(act.Unit); u != nil {
			client.Say(os.Stdout, "  now %s", snap.Account(u)[0])
		}
	}
}
