package consent

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"omnivigil/internal/plan"
	"omnivigil/internal/text/format"
)

// The user also agrees to what decides when, how often and in which order something runs, and what is masked:
// starting a deployment with everything else, or showing a secret, needs no new command.

// ofProject are such items of a whole project.
func ofProject(p *plan.Plan) []Item {
	var all []Item
	add := func(what, text string) {
		if text != "" {
			all = append(all, Item{What: what, Text: text, Usual: true, exact: text, late: true})
		}
	}
	add("hides values of", strings.Join(p.Secret, ", "))
	if p.Jobs > 0 {
		add("runs at once", format.Count(p.Jobs, "job"))
	}
	for _, g := range p.Groups {
		add("group "+g.Name, strings.Join(g.Units, ", "))
	}
	return all
}

// rulesOf are such items of a unit, including defaults: a setting that is removed is a change.
func rulesOf(u *plan.Unit) []Item {
	var all []Item
	add := func(what, text string) {
		if text != "" {
			all = append(all, Item{Unit: u.Name, What: what, Text: text, Usual: true, exact: text, late: true})
		}
	}
	flag := func(what string, set bool) {
		if set {
			add(what, "yes")
		}
	}
	every := func(what string, d time.Duration) {
		if d > 0 {
			add(what, d.String())
		}
	}
	add("needs", strings.Join(u.Needs, ", "))
	add("follows", strings.Join(u.Follows, ", "))
	add("watches", texts(u.Watch))
	add("ignores", texts(u.Ignore))
	add("makes", texts(u.Outputs))
	for _, re := range u.Reactions {
		add("on "+re.When.Text, actions[re.Do])
	}
	for _, step := range slices.Concat(u.Setup, u.Prelude) {
		if step.Dir != "" {
			add("step "+step.Run.String()+" in", step.Dir)
		}
		add("step "+step.Run.String(), strings.Trim(texts(step.Inputs)+" -> "+texts(step.Outputs), "-> "))
	}
	every("waits for quiet files", u.Debounce)
	every("looks at files every", u.Poll)
	if u.Uses != nil {
		add("receives of env files", format.List(u.Uses))
	}
	flag("counts files that version control ignores", u.Unignored)
	flag("skips saves that change nothing", u.SkipUnchanged)
	if ready := u.Ready; ready.Run == nil { // which is an item of its own
		add("is ready by", readyWords(ready))
	}
	every("is checked again every", u.Health)
	every("is ended after", u.Limit)
	add("picks up changes by", passWords(u.Pass))
	add("is stopped by", fmt.Sprintf("SIG%s, killed after %s", u.Stop.Signal, u.Stop.Grace))
	flag("starts only when asked", u.Manual)
	flag("is retried after a crash", u.AfterExit == plan.Retry)
	flag("is cut short by a change", u.Overlap == plan.Abandon)
	flag("runs alone", u.Alone)
	flag("may serve", u.MayServe)
	flag("is observed", u.Observe)
	flag("reuses its result", u.Reuse)
	flag("shows JSON and logfmt raw", u.Unstructured)
	flag("runs all tests when the narrowed pass", u.Widen)
	add("narrows by", narrowWords(u.Narrow))
	if u.Kind == plan.Suite {
		add("reads results from", strings.TrimSpace(forms[u.Results.Form]+" "+u.Results.JUnit))
	}
	add("reads findings by", findingsWords(u.Findings))
	add("fails by findings", fails[u.FindingsFail])
	add("names its address", u.Endpoint.Label)
	add("when its address opens", u.Endpoint.WhenUp)
	if r := u.Relay; r != nil {
		add("falls back on", r.Fallback)
		add("waits for", strings.Join(r.Needs, ", "))
		add("is refreshed by", texts(r.Refresh))
	}
	return all
}

// Names of settings with few values.
var (
	actions = map[plan.Action]string{
		plan.Act:         "acts",
		plan.SendSignal:  "is sent a signal",
		plan.Nothing:     "does nothing",
		plan.RefreshPage: "has pages reload",
		plan.SwapStyle:   "has the file swapped in pages",
	}
	forms = map[plan.ResultsForm]string{
		plan.ResultsExit:    "the exit status",
		plan.ResultsAuto:    "any known form",
		plan.ResultsGoJSON:  "go test -json",
		plan.ResultsTAP:     "TAP",
		plan.ResultsLibtest: "libtest",
		plan.ResultsJUnit:   "JUnit files",
	}
	fails = map[plan.FindingsFail]string{
		plan.FailOnError:   "errors",
		plan.FailOnWarning: "errors and warnings",
		plan.FailNever:     "none",
	}
)

func readyWords(r plan.Ready) string {
	text := r.String()
	if r.Insecure {
		text += ", any certificate"
	}
	if r.Within > 0 {
		text += ", within " + r.Within.String()
	}
	return text
}

func passWords(p *plan.Pass) string {
	switch {
	case p == nil:
		return ""
	case p.Auto:
		return "what common tools print, within " + p.Within.String()
	}
	return fmt.Sprintf("lines like %q (begun), %q (good), %q (bad), within %s", p.Working, p.Good, p.Bad, p.Within)
}

func narrowWords(n *plan.Narrow) string {
	if n == nil {
		return ""
	}
	return strings.TrimSuffix(fmt.Sprintf("adding %s, joined by %q, first %s", n.Add, n.Join, n.First), ", first ")
}

func findingsWords(f plan.Findings) string {
	switch {
	case f.Off:
		return "nothing"
	case f.SARIF != "":
		return "SARIF files " + f.SARIF
	case f.Pattern != "":
		return "lines like " + f.Pattern
	}
	return "all known forms"
}

func texts(patterns []plan.Pattern) string {
	all := make([]string, len(patterns))
	for i, p := range patterns {
		all[i] = p.Text
	}
	return strings.Join(all, ", ")
}
