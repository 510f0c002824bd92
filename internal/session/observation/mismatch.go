package observation

import (
	"fmt"
	"path/filepath"
	"slices"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/plan"
	"omnivigil/internal/plan/edit"
	"omnivigil/internal/plan/settings"
	"omnivigil/internal/process/observe"
	"omnivigil/internal/text/format"
	"omnivigil/internal/watch/pattern"
)

// mismatches returns how a unit's settings differ from what it was seen to do, the most severe first.
func (c *comparison) mismatches(u *unitSeen) []api.Mismatch {
	all := slices.Concat(
		c.uncoveredReads(u), c.undeclaredOutputs(u), c.undeclaredNeeds(u), c.weakReady(u), c.idleRules(u),
	)
	if problem := u.problem(); problem != "" {
		m := api.Mismatch{Kind: api.Unobserved, Severity: api.SeverityNote, Text: problem}
		if u.Problem != "" {
			m.Severity = api.SeverityError
		}
		all = append(all, m)
	}
	for i := range all {
		all[i].Unit = u.Unit
		for j, e := range all[i].Edits {
			own := Addition(e)
			own.Values = settings.AsWritten(c.plan, u.spec, e.Key, e.Values)
			all[i].Edits[j].Text = own.String()
		}
		if all[i].Line == 0 {
			all[i].Line = u.spec.Line
		}
	}
	order := []api.Severity{api.SeverityError, api.SeverityWarning, api.SeverityNote}
	slices.SortStableFunc(all, func(a, b api.Mismatch) int {
		return slices.Index(order, a.Severity) - slices.Index(order, b.Severity)
	})
	return all
}

// Addition converts a proposed edit for package settings.
func Addition(e api.Edit) edit.Addition {
	return edit.Addition{Unit: e.Unit, Key: e.Key, Values: e.Values, Port: e.Port}
}

// Proposed returns the texts of the settings files that all proposed edits would change, as far as these are possible,
// and what is in the way of the others.
func Proposed(p *plan.Plan, all []api.Mismatch) (edited edit.Texts, problems []error) {
	edited = edit.Texts{}
	for _, m := range all {
		for _, e := range m.Edits {
			if err := edited.Add(p, Addition(e)); err != nil {
				problems = append(problems, err)
			}
		}
	}
	return edited, problems
}

// uncoveredReads are files that a unit reads and that no rule covers: one mismatch for files of the project, and one
// for each unit that makes such files.
func (c *comparison) uncoveredReads(u *unitSeen) []api.Mismatch {
	var plain []string
	made := map[string][]string{}
	for _, r := range u.reads {
		switch {
		case r.covered():
		case len(r.from) > 0:
			made[r.from[0]] = append(made[r.from[0]], r.name)
		default:
			plain = append(plain, r.name)
		}
	}
	kind, severity := api.UncoveredRead, api.SeverityWarning
	means := "a save changes nothing"
	if u.spec.Reuse {
		kind, severity = api.IncompleteKey, api.SeverityError
		means = "its result is reused even after a change"
	}
	var all []api.Mismatch
	if len(plain) > 0 {
		m := api.Mismatch{
			Kind: kind, Severity: severity, Files: some(plain), Count: len(plain),
			Text: fmt.Sprintf("reads %s, which no rule covers: %s", format.ListOf(some(plain), len(plain)), means),
		}
		if patterns := c.patternsFor(u, plain); len(patterns) > 0 {
			m.Edits = []api.Edit{{Unit: u.Unit, Key: "watch", Values: patterns}}
		}
		all = append(all, m)
	}
	for _, maker := range c.plan.Units {
		files := made[maker.Name]
		if len(files) == 0 {
			continue
		}
		kind, severity := kind, severity
		if slices.Contains(u.spec.Needs, maker.Name) { // whose outputs belong to what a reused result depends on
			kind, severity = api.UncoveredRead, api.SeverityWarning
		}
		all = append(all, api.Mismatch{
			Kind: kind, Severity: severity, Files: some(files), Count: len(files),
			Text: fmt.Sprintf("reads %s, which %s makes, and does not follow it",
				format.ListOf(some(files), len(files)), maker.Name),
			Edits: []api.Edit{{Unit: u.Unit, Key: "follows", Values: []string{maker.Name}}},
		})
	}
	return all
}

// undeclaredOutputs are files that a unit writes, that concern units, and that are not its outputs. A service has no
// outputs; it ignores what it writes.
func (c *comparison) undeclaredOutputs(u *unitSeen) []api.Mismatch {
	var files, affected []string
	for _, w := range u.writes {
		concerned := append(slices.Clone(w.affects), w.readBy...)
		if !u.spec.Kind.Ends() {
			concerned = slices.DeleteFunc(slices.Clone(w.affects), func(of string) bool { return of != u.Unit })
		}
		if !w.declared && len(concerned) > 0 {
			files, affected = append(files, w.name), append(affected, concerned...)
		}
	}
	if len(files) == 0 {
		return nil
	}
	slices.Sort(affected)
	affected = slices.Compact(affected)
	if at := slices.Index(affected, u.Unit); at >= 0 {
		affected[at] = "itself"
	}
	m := api.Mismatch{
		Kind: api.UndeclaredOutput, Severity: api.SeverityWarning, Files: some(files), Count: len(files),
		Text: fmt.Sprintf("writes %s, affecting %s", format.ListOf(some(files), len(files)), format.List(affected)),
	}
	key := "ignore"
	if u.spec.Kind.Ends() {
		key = "outputs"
		m.Text += ", and does not declare it as an output"
	}
	if patterns := c.patternsFor(nil, files); len(patterns) > 0 {
		m.Edits = []api.Edit{{Unit: u.Unit, Key: key, Values: patterns}}
	}
	return []api.Mismatch{m}
}

// undeclaredNeeds are the units that a unit connects to and that it does not need, directly or through others.
func (c *comparison) undeclaredNeeds(u *unitSeen) []api.Mismatch {
	needs := func(u *plan.Unit) []string { return u.Needs }
	var all []api.Mismatch
	var done []string
	for _, a := range u.Seen.Connects {
		to := c.listenerAt(a)
		if to == "" || to == u.Unit || slices.Contains(done, to) || c.leadsTo(u.spec, []string{to}, needs) != "" {
			continue
		}
		done = append(done, to)
		m := api.Mismatch{
			Kind: api.UndeclaredNeed, Severity: api.SeverityWarning,
			Text: fmt.Sprintf("connects to %s (%s), which is not in its needs: it may start before %s is ready",
				to, a, to),
		}
		if c.leadsTo(c.plan.Unit(to), []string{u.Unit}, needs) != "" {
			m.Severity = api.SeverityNote
			m.Text = fmt.Sprintf("connects to %s (%s), which needs it: neither can wait for the other", to, a)
		} else {
			m.Edits = []api.Edit{{Unit: u.Unit, Key: "needs", Values: []string{to}}}
		}
		all = append(all, m)
	}
	return all
}

// readySlack is how much later than its ready line a service may be seen to listen: the line is read by another
// goroutine than the call.
const readySlack = 100 * time.Millisecond

// weakReady tells that a service counts as ready before it listens.
func (c *comparison) weakReady(u *unitSeen) []api.Mismatch {
	first, listens := u.firstPort()
	ready := u.spec.Ready
	if u.spec.Kind != plan.Service || u.spec.Pass != nil || !listens || ready.Port != 0 || ready.HTTP != "" {
		return nil
	}
	port := int(first.IP.Port())
	m := api.Mismatch{
		Kind: api.WeakReady, Severity: api.SeverityWarning,
		Edits: []api.Edit{{Unit: u.Unit, Key: "ready", Port: port}},
	}
	switch late := first.Since.Sub(u.ReadyAt); {
	case !ready.Probed():
		m.Text = fmt.Sprintf("listens on port %d, but counts as ready %s after its start without a check",
			port, format.Duration(ready.After))
	case !u.ReadyAt.IsZero() && late > readySlack:
		m.Text = fmt.Sprintf("counted as ready %s before it listened on port %d", format.Duration(late), port)
		m.Edits = nil // its settings have another check, for a reason
	default:
		return nil
	}
	return []api.Mismatch{m}
}

// firstPort returns the address that a unit is known by: that of its endpoint, or else the first that it listened on.
// A port that the system has chosen cannot be written into settings.
func (u *unitSeen) firstPort() (first observe.Address, found bool) {
	low, high := chosenPorts()
	for _, a := range u.Seen.Listens {
		port := a.IP.Port()
		switch {
		case port == 0:
		case int(port) == u.spec.Endpoint.Port:
			return a, true
		case port >= low && port <= high:
		case !found || a.Since.Before(first.Since):
			first, found = a, true
		}
	}
	return first, found
}

// idleRules are rules that match files of which the unit has read none. A service may read them later, so of a service
// that is only a note.
func (c *comparison) idleRules(u *unitSeen) []api.Mismatch {
	severity := api.SeverityWarning
	if !u.spec.Kind.Ends() {
		severity = api.SeverityNote
	}
	var all []api.Mismatch
	for _, rule := range u.rules() {
		compiled := pattern.Compile(c.plan.Root, rule.Text)
		used := func(name string) bool { return compiled.Match(filepath.ToSlash(c.path(name))) }
		if anyKey(u.touched, used) || anyKey(u.wrote, used) {
			continue
		}
		matching := 0
		for _, name := range c.projectFiles().names {
			if used(name) {
				matching++
			}
		}
		if matching == 0 {
			continue // reported without observation
		}
		m := api.Mismatch{Kind: api.IdleRule, Severity: severity, Line: rule.Line}
		if m.Text = fmt.Sprintf("read none of the %d files that %q matches", matching, rule.Text); matching == 1 {
			m.Text = fmt.Sprintf("did not read the file that %q matches", rule.Text)
		}
		all = append(all, m)
	}
	return all
}

// rules are the patterns whose files the unit itself should read.
func (u *unitSeen) rules() []plan.Pattern {
	var all []plan.Pattern
	for _, re := range u.spec.Reactions {
		if re.Do != plan.Nothing && !re.Do.Pages() {
			all = append(all, re.When)
		}
	}
	return append(all, u.spec.Watch...)
}

func anyKey(of map[string]bool, is func(string) bool) bool {
	for key := range of {
		if is(key) {
			return true
		}
	}
	return false
}
