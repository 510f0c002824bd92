package trust

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"omnivigil/internal/phrase"
	"omnivigil/internal/plan"
)

// What decides when, how often and in which order something runs, and what is hidden, is agreed to as well as
// what runs: to start a deployment with everything else, or to show a secret, needs no new command.

// ofProject are such things of a whole project.
func ofProject(p *plan.Plan) []Item {
	var all []Item
	add := func(what, text string) {
		if text != "" {
			all = append(all, Item{What: what, Text: text, Usual: true, exact: text, late: true})
		}
	}
	add("hides values of", strings.Join(p.Secret, ", "))
	if p.Jobs > 0 {
		add("runs at once", phrase.Count(p.Jobs, "job"))
	}
	for _, g := range p.Groups {
		add("group "+g.Name, strings.Join(g.Units, ", "))
	}
	return all
}

// rulesOf are such things of a unit.
func rulesOf(u *plan.Unit) []Item {
	var all []Item
	add := func(what, text string) {
		if text != "" && text != "null" && text != "0s" {
			all = append(all, Item{Unit: u.Name, What: what, Text: text, Usual: true, exact: text, late: true})
		}
	}
	flag := func(what string, set bool) {
		if set {
			add(what, "yes")
		}
	}
	add("needs", strings.Join(u.Needs, ", "))
	add("follows", strings.Join(u.Follows, ", "))
	add("watches", texts(u.Watch))
	add("ignores", texts(u.Ignore))
	add("makes", texts(u.Outputs))
	for _, re := range u.Reactions {
		add("on "+re.When.Text, fmt.Sprint(re.Do))
	}
	for _, step := range slices.Concat(u.Setup, u.Prelude) {
		add("step "+step.Run.String(), strings.Trim(texts(step.Inputs)+" -> "+texts(step.Outputs), "-> "))
	}
	add("waits for quiet files", u.Debounce.String())
	add("looks at files every", u.Poll.String())
	flag("counts files that version control ignores", u.Unignored)
	flag("skips saves that change nothing", u.SkipUnchanged)
	if ready := u.Ready; ready.Run == nil { // that is told as a command
		add("is ready by", asJSON(ready))
	}
	add("takes up changes by", asJSON(u.Pass))
	add("is stopped by", fmt.Sprintf("SIG%s, killed after %s", u.Stop.Signal, u.Stop.Grace))
	flag("starts only when asked", u.Manual)
	flag("is retried after a crash", u.AfterExit == plan.Retry)
	flag("is cut short by a change", u.Overlap == plan.Abandon)
	flag("runs alone", u.Alone)
	flag("may serve", u.MayServe)
	flag("reuses its result", u.Reuse)
	flag("shows JSON and logfmt raw", u.Unstructured)
	flag("runs all tests when the narrowed pass", u.Widen)
	add("narrows by", asJSON(u.Narrow))
	add("reads results", fmt.Sprint(u.Results.Form)+" "+u.Results.JUnit)
	add("reads findings", asJSON(u.Findings))
	add("fails by findings", fmt.Sprint(u.FindingsFail))
	add("tells of its address", u.Endpoint.Label+" "+u.Endpoint.WhenUp)
	if u.Relay != nil {
		add("refreshes and falls back", asJSON(u.Relay))
	}
	return all
}

func asJSON(v any) string {
	data, err := json.Marshal(v)
	if err != nil {
		return fmt.Sprintf("%+v", v)
	}
	return string(data)
}

func texts(patterns []plan.Pattern) string {
	all := make([]string, len(patterns))
	for i, p := range patterns {
		all[i] = p.Text
	}
	return strings.Join(all, ", ")
}
