package demo

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"
)

// edit is one save of the autopilot: it replaces text in some files.
type edit struct {
	title string
	files map[string][2]string // file to old and new text
}

// script is what the autopilot does repeatedly: good edits, broken ones, one that fails a test, their repair, and a
// burst. It ends in the state in which it began.
var script = []edit{
	{"a new rule for berths", map[string][2]string{"berths/rules.toml": {"under_keel = 0.6", "under_keel = 0.8"}}},
	{"a price that is not a number", map[string][2]string{"fares/fares.csv": {"3.80,6.20", "3.80,6,20"}}},
	{"the price fixed", map[string][2]string{"fares/fares.csv": {"3.80,6,20", "3.80,6.40"}}},
	{"a burst: tides, berths, style and page at once", map[string][2]string{
		"tides/harbours.toml":      {"range = 3.6", "range = 3.4"},
		"berths/rules.toml":        {"berths = 3", "berths = 4"},
		"tickets/style.css":        {"#0b6e69", "#0b5a6e"},
		"tickets/pages/index.html": {"we sail on", "we sail"},
	}},
	{
		"the test that failed expects four berths",
		map[string][2]string{"harbour/expected.toml": {"least = 3\nmost = 3", "least = 4\nmost = 4"}},
	},
	{
		"a rule that does not parse",
		map[string][2]string{"berths/rules.toml": {"under_keel = 0.8", "under_keel = much"}},
	},
	{"the rule fixed", map[string][2]string{"berths/rules.toml": {"under_keel = much", "under_keel = 0.6"}}},
	{"everything as it was", map[string][2]string{
		"fares/fares.csv":          {"3.80,6.40", "3.80,6.20"},
		"tides/harbours.toml":      {"range = 3.4", "range = 3.6"},
		"berths/rules.toml":        {"berths = 4", "berths = 3"},
		"harbour/expected.toml":    {"least = 4\nmost = 4", "least = 3\nmost = 3"},
		"tickets/style.css":        {"#0b5a6e", "#0b6e69"},
		"tickets/pages/index.html": {"we sail<", "we sail on<"},
	}},
}

// Autopilot edits the project in root, one edit after each pause, until ctx is done. It reports each edit through
// tell.
func Autopilot(ctx context.Context, root string, pause time.Duration, tell func(string)) {
	for n := 0; ; n++ {
		select {
		case <-ctx.Done():
			return
		case <-time.After(pause):
		}
		e := script[n%len(script)]
		tell("autopilot: " + e.title)
		if err := e.apply(root); err != nil {
			tell("autopilot: " + err.Error())
		}
	}
}

func (e edit) apply(root string) error {
	for name, change := range e.files {
		file := filepath.Join(root, filepath.FromSlash(name))
		data, err := os.ReadFile(file)
		if err != nil {
			return fmt.Errorf("edit %s: %w", name, err)
		}
		text := strings.Replace(string(data), change[0], change[1], 1)
		if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
			return fmt.Errorf("edit %s: %w", name, err)
		}
	}
	return nil
}
