package outcomes

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"sync"

	"omnivigil/internal/api"
	"omnivigil/internal/plan"
	"omnivigil/internal/results"
	"omnivigil/internal/results/record"
	"omnivigil/internal/session/run"
	"omnivigil/internal/text/format"
	"omnivigil/internal/text/location"
)

// known are the converted cases and findings of one unit.
type known struct {
	of       *run.Tracker
	version  int
	cases    []api.Case
	findings []api.Finding
}

// Results answers queries about the cases and findings of a session's units. Its methods may be called from any
// goroutine.
type Results struct {
	of    *run.Trackers
	clean func(string) string

	mu    sync.Mutex
	known map[string]*known // of units that a face has asked about
}

// New returns the results of trackers. Clean makes text safe to show.
func New(of *run.Trackers, clean func(string) string) *Results {
	return &Results{of: of, clean: clean, known: map[string]*known{}}
}

// knownOf returns the results of a unit. They are converted again only if they have changed.
func (r *Results) knownOf(unit string) *known {
	t := r.of.Get(unit)
	if t == nil {
		return &known{}
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	t.Read(func(by *record.Record) {
		if old := r.known[unit]; old != nil && old.of == t && old.version == by.Version() {
			return
		}
		now := &known{of: t, version: by.Version()}
		for _, c := range by.Cases() {
			c.Output = nil
			now.cases = append(now.cases, Case(unit, c, r.clean))
		}
		for _, f := range by.Findings() {
			now.findings = append(now.findings, Finding(unit, f, r.clean))
		}
		r.known[unit] = now
	})
	return r.known[unit]
}

// caseKinds and findingKinds are the kinds that queries can select.
var caseKinds = map[string]func(*api.Case) bool{
	"":        func(*api.Case) bool { return true },
	"failing": func(c *api.Case) bool { return c.Status == api.CaseFailed },
	"new":     func(c *api.Case) bool { return c.Change == api.NewlyFailing },
	"fixed":   func(c *api.Case) bool { return c.Change == api.NewlyPassing },
	"flaky":   func(c *api.Case) bool { return c.Flaky },
	"slow":    func(c *api.Case) bool { return c.Slow },
	"skipped": func(c *api.Case) bool { return c.Status == api.CaseSkipped },
	"passed":  func(c *api.Case) bool { return c.Status == api.CasePassed },
}

var findingKinds = map[string]func(*api.Finding) bool{
	"":        func(*api.Finding) bool { return true },
	"error":   func(f *api.Finding) bool { return f.Severity == api.SeverityError && f.Change != api.GoneFinding },
	"warning": func(f *api.Finding) bool { return f.Severity == api.SeverityWarning && f.Change != api.GoneFinding },
	"new":     func(f *api.Finding) bool { return f.Change == api.NewFinding },
	"gone":    func(f *api.Finding) bool { return f.Change == api.GoneFinding },
}

// chosen returns a page of what a query selects, and the number in all pages.
func chosen[T any](all []*T, q api.ResultQuery) ([]T, int) {
	count := q.Count
	if count <= 0 {
		count = api.DefaultLines
	}
	from := max(0, min(q.From, len(all)))
	page := make([]T, 0, min(count, len(all)-from))
	for _, one := range all[from:min(len(all), from+min(count, api.MaxLines))] {
		page = append(page, *one)
	}
	return page, len(all)
}

// Cases returns a page of the cases of units. The failing ones of all units come first.
func (r *Results) Cases(units []string, q api.ResultQuery) (api.CasePage, error) {
	return Cases(units, q, func(unit string) []api.Case { return r.knownOf(unit).cases })
}

// Cases returns a page of the cases that a function returns of each unit, as Results.Cases does.
func Cases(units []string, q api.ResultQuery, of func(unit string) []api.Case) (api.CasePage, error) {
	is := caseKinds[q.Only]
	if is == nil {
		return api.CasePage{}, api.Refuse(
			"tests can be asked for that are failing, new, fixed, flaky, slow, skipped or passed, not %q",
			q.Only,
		)
	}
	var first, rest []*api.Case
	text := strings.ToLower(q.Text)
	for _, unit := range units {
		cases := of(unit)
		for i := range cases {
			c := &cases[i]
			switch {
			case !is(c), text != "" && !strings.Contains(strings.ToLower(c.Suite+" "+c.Name), text):
			case c.Change == api.NewlyFailing:
				first = append(first, c)
			default:
				rest = append(rest, c)
			}
		}
	}
	slices.SortStableFunc(rest, func(a, b *api.Case) int { return failedFirst(a) - failedFirst(b) })
	page := api.CasePage{From: q.From}
	page.Cases, page.Total = chosen(append(first, rest...), q)
	return page, nil
}

func failedFirst(c *api.Case) int {
	if c.Status == api.CaseFailed {
		return 0
	}
	return 1
}

// Case returns one case with its output.
func (r *Results) Case(unit string, name api.CaseName) (found api.Case, err error) {
	err = api.Refuse("nothing is known of a test %s of %s", r.clean(name.Suite+" "+name.Name), r.clean(unit))
	if t := r.of.Get(unit); t != nil {
		t.Read(func(by *record.Record) {
			if c, ok := by.Case(name); ok {
				found, err = Case(unit, c, r.clean), nil
			}
		})
	}
	return found, err
}

// Findings returns a page of the findings of units, grouped by file; files with new ones come first.
func (r *Results) Findings(units []string, q api.ResultQuery) (api.FindingPage, error) {
	return Findings(units, q, func(unit string) []api.Finding { return r.knownOf(unit).findings })
}

// Findings returns a page of the findings that a function returns of each unit, as Results.Findings does.
func Findings(units []string, q api.ResultQuery, of func(unit string) []api.Finding) (api.FindingPage, error) {
	is := findingKinds[q.Only]
	if is == nil {
		return api.FindingPage{}, api.Refuse(
			"findings can be asked for of the kinds error, warning, new and gone, not %q",
			q.Only,
		)
	}
	var all []*api.Finding
	text := strings.ToLower(q.Text)
	for _, unit := range units {
		findings := of(unit)
		for i := range findings {
			f := &findings[i]
			if is(f) && (text == "" || strings.Contains(strings.ToLower(f.File+" "+f.Rule+" "+f.Message), text)) {
				all = append(all, f)
			}
		}
	}
	if q.By != "unit" {
		byFile(all)
		all = once(all)
	}
	page := api.FindingPage{From: q.From}
	page.Findings, page.Total = chosen(all, q)
	return page, nil
}

// byFile groups findings by file; files with new ones come first.
func byFile(all []*api.Finding) {
	fresh := map[string]int{}
	for _, f := range all {
		if f.Change == api.NewFinding {
			fresh[f.File] = -1
		}
	}
	slices.SortStableFunc(all, func(a, b *api.Finding) int {
		return cmp.Or(fresh[a.File]-fresh[b.File], strings.Compare(a.File, b.File), a.Line-b.Line, a.Column-b.Column)
	})
}

// once returns findings that are grouped by file, with those that several units report only once: the one that is new,
// if one is.
func once(all []*api.Finding) (out []*api.Finding) {
	type place struct {
		location.Location
		message string
		gone    bool
	}
	at := map[place]int{}
	for _, f := range all {
		key := place{f.Location, f.Message, f.Change == api.GoneFinding}
		i, reported := at[key]
		switch {
		case !reported || f.File == "" || slices.Contains(append(out[i].Also, out[i].Unit), f.Unit):
			at[key] = len(out)
			out = append(out, f)
			continue
		case out[i].Change != f.Change && f.Change == api.NewFinding:
			out[i], f = f, out[i]
		}
		both := *out[i] // others use the original
		both.Also = append(slices.Clone(both.Also), f.Unit)
		both.Also = append(both.Also, f.Also...)
		out[i] = &both
	}
	return out
}

// Narrowing returns the arguments that narrow a unit to what a request names, and a description of that.
func (r *Results) Narrowing(u *plan.Unit, req api.Request) (words []string, to string, err error) {
	chosen := req.Cases
	if t := r.of.Get(u.Name); req.Failing && t != nil {
		t.Read(func(by *record.Record) { chosen = by.Failing() })
	}
	// A package that failed as a whole has no test to select.
	if req.Failing {
		chosen = slices.DeleteFunc(chosen, func(c api.CaseName) bool { return c.Name == "" })
	}
	if len(chosen) == 0 {
		if req.Failing {
			return nil, "", api.Refuse("no test of %s fails", u.Name)
		}
		return nil, "", api.Refuse("narrow needs the names of tests")
	}
	if words, err = results.Words(u, chosen); err != nil {
		return nil, "", api.Refuse("%s", err)
	}
	names := make([]string, len(chosen))
	for i, c := range chosen {
		if names[i] = c.Name; c.Name == "" {
			names[i] = c.Suite
		}
	}
	const named = 3
	return words, r.clean(format.ListOf(names[:min(len(names), named)], len(names))), nil
}

// Matching tells how many of the known tests of a unit a narrowing to some of them matches, and warns of those that
// no run has reported: a new one is unknown before its first run, and so is one with a typing error. Empty: no test of
// the unit is known.
func (r *Results) Matching(unit string, named []api.CaseName) string {
	cases := r.knownOf(unit).cases
	if len(cases) == 0 {
		return ""
	}
	matched, unknown := 0, slices.Clone(named)
	for i := range cases {
		c := api.CaseName{Suite: cases[i].Suite, Name: cases[i].Name}
		if slices.ContainsFunc(named, func(n api.CaseName) bool { return n.Matches(c) }) {
			matched++
			unknown = slices.DeleteFunc(unknown, func(n api.CaseName) bool { return n.Matches(c) })
		}
	}
	var parts []string
	if matched > 0 {
		parts = append(parts, fmt.Sprintf("%d of %s of %s match.", matched, format.Count(len(cases), "known test"), unit))
	}
	if len(unknown) > 0 {
		names := make([]string, len(unknown))
		for i, n := range unknown {
			names[i] = cmp.Or(n.Name, n.Suite)
		}
		parts = append(parts, fmt.Sprintf("No known test of %s is named %s. It is run anyway.", unit,
			r.clean(format.List(names))))
	}
	return strings.Join(parts, " ")
}
