package personal

import (
	"fmt"
	"strings"

	"omnivigil/internal/api/exit"
	"omnivigil/internal/plan/edit"
	"omnivigil/internal/store/paths"
)

// Selection returns the names of units and groups of a selection, such as "@sea".
func Selection(name string) ([]string, error) {
	p, problems := Read()
	if len(problems) > 0 {
		return nil, exit.Refuse("omnivigil: your own settings: %s", strings.Join(problems, "\n"))
	}
	units, ok := p.Selections[strings.ToLower(strings.TrimPrefix(name, "@"))]
	if !ok {
		return nil, exit.Refuse("omnivigil: there is no selection %s in %s; write one, such as sea = [\"tides\"] below "+
			"[selection]", name, paths.Personal())
	}
	return units, nil
}

// SaveSelection adds a selection to the personal file, which is created if it does not exist.
func SaveSelection(name string, units []string) error {
	p, problems := Read()
	if len(problems) > 0 {
		return fmt.Errorf("your own settings have an error: %s", problems[0])
	}
	if _, taken := p.Selections[strings.ToLower(name)]; taken {
		return fmt.Errorf("there is already a selection @%s in %s", name, paths.Personal())
	}
	return edit.AddEntry(paths.Personal(), "selection", name, units)
}
