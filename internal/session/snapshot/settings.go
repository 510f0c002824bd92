package snapshot

import (
	"fmt"
	"strings"

	"omnivigil/internal/api"
	"omnivigil/internal/plan"
	"omnivigil/internal/text/format"
)

// Settings are a unit's settings in words, without the defaults.
func (c Converter) Settings(u *plan.Unit) []api.Setting {
	var all []api.Setting
	add := func(name, text string) {
		if text != "" {
			all = append(all, api.Setting{Name: name, Text: c(text)})
		}
	}
	if u.Relay != nil {
		add("serves", u.Relay.String())
		for _, at := range u.Relay.At {
			add("at", at.Prefix+" from "+at.To+at.Root)
		}
		return all
	}
	add("run", u.Run.String())
	add("dir", u.Dir)
	add("setup", steps(u.Setup))
	add("prelude", steps(u.Prelude))
	if !u.Kind.Ends() {
		add("ready", within(u))
		if u.Health > 0 {
			add("health", "the same check every "+format.Duration(u.Health))
		}
		if u.AfterExit == plan.Retry {
			add("after_exit", "retry, with growing pauses")
		}
	}
	if u.Pass != nil {
		add("pass", "picks up changes by itself, within "+format.Duration(u.Pass.Within))
	}
	add("stop", stopWords(u.Stop))
	add("debounce", format.Duration(u.Debounce))
	if u.Kind.Ends() && u.Overlap == plan.Abandon {
		add("overlap", "abandon: a change during a run cuts it short")
	}
	if u.Limit > 0 {
		add("limit", "a run that takes longer than "+format.Duration(u.Limit)+" is ended and has failed")
	}
	if u.Reuse {
		add("reuse", "its last good result holds while all it depends on is the same")
	}
	if u.Observe {
		add("observe", "what it does is compared with its settings")
	}
	if u.Alone {
		add("alone", "nothing else runs at the same time")
	}
	if u.Manual {
		add("start", "manual: by request only")
	}
	return all
}

func steps(of []plan.Step) string {
	lines := make([]string, len(of))
	for i, step := range of {
		lines[i] = step.Run.String()
	}
	return strings.Join(lines, "; ")
}

func within(u *plan.Unit) string {
	if u.Ready.Within == 0 {
		return u.Ready.String()
	}
	return u.Ready.String() + ", within " + format.Duration(u.Ready.Within)
}

func stopWords(stop plan.Stop) string {
	if stop.Run != nil {
		return fmt.Sprintf("%s, killed after %s", stop.Run, format.Duration(stop.Grace))
	}
	if stop.Type != "" {
		return fmt.Sprintf("typing %q, killed after %s", stop.Type, format.Duration(stop.Grace))
	}
	return fmt.Sprintf("SIG%s, killed after %s", stop.Signal, format.Duration(stop.Grace))
}
