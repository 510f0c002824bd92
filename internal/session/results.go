package session

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"omnivigil/internal/api"
	"omnivigil/internal/results"
	"omnivigil/internal/session/outcomes"
	"omnivigil/internal/text/format"
)

// known are the cases and findings of one unit, as faces see them.
type known struct {
	version  int
	cases    []api.Case
	findings []api.Finding
}

// knownOf returns what is known of a unit. It is made again only when there is something else.
func (s *Session) knownOf(unit string) *known {
	m := s.trackers.get(unit)
	if m == nil {
		return &known{}
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if v := m.record.Version(); m.known == nil || m.known.version != v {
		m.known = &known{version: v}
		for _, c := range m.record.Cases() {
			c.Output = nil
			m.known.cases = append(m.known.cases, outcomes.Case(unit, c, s.clean))
		}
		for _, f := range m.record.Findings() {
			m.known.findings = append(m.known.findings, outcomes.Finding(unit, f, s.clean))
		}
	}
	return m.known
}

// unitsOf returns the units that a query is about, in the order of the settings.
func (s *Session) unitsOf(q api.ResultQuery) ([]string, error) {
	named, err := s.named(q.Units)
	if err != nil {
		return nil, err
	}
	var units []string
	for _, u := range s.Plan().Units {
		if len(q.Units) == 0 || slices.Contains(named, u.Name) {
			units = append(units, u.Name)
		}
	}
	return units, nil
}

// caseKinds are what a query of cases may ask for alone, and findingKinds one of findings.
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

// chosen returns a page of those of all that a query asks for, and how many there are in all.
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

// Cases implements api.Project. The failing ones of all units come first.
func (s *Session) Cases(_ context.Context, q api.ResultQuery) (api.CasePage, error) {
	units, err := s.unitsOf(q)
	is := caseKinds[q.Only]
	switch {
	case err != nil:
		return api.CasePage{}, err
	case is == nil:
		return api.CasePage{}, api.Refuse(
			"tests can be asked for that are failing, new, fixed, flaky, slow, skipped or passed, not %q",
			q.Only,
		)
	}
	var first, rest []*api.Case
	text := strings.ToLower(q.Text)
	for _, unit := range units {
		cases := s.knownOf(unit).cases
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

// Case implements api.Project.
func (s *Session) Case(_ context.Context, unit string, name api.CaseName) (api.Case, error) {
	if m := s.trackers.get(unit); m != nil {
		m.mu.Lock()
		defer m.mu.Unlock()
		if c, ok := m.record.Case(name); ok {
			return outcomes.Case(unit, c, s.clean), nil
		}
	}
	return api.Case{}, api.Refuse(
		"nothing is known of a test %s of %s",
		s.clean(name.Suite+" "+name.Name),
		s.clean(unit),
	)
}

// Findings implements api.Project.
func (s *Session) Findings(_ context.Context, q api.ResultQuery) (api.FindingPage, error) {
	units, err := s.unitsOf(q)
	is := findingKinds[q.Only]
	switch {
	case err != nil:
		return api.FindingPage{}, err
	case is == nil:
		return api.FindingPage{}, api.Refuse(
			"findings can be asked for of the kinds error, warning, new and gone, not %q",
			q.Only,
		)
	}
	var all []*api.Finding
	text := strings.ToLower(q.Text)
	for _, unit := range units {
		findings := s.knownOf(unit).findings
		for i := range findings {
			f := &findings[i]
			if is(f) && (text == "" || strings.Contains(strings.ToLower(f.File+" "+f.Rule+" "+f.Message), text)) {
				all = append(all, f)
			}
		}
	}
	if q.By != "unit" {
		byFile(all)
	}
	page := api.FindingPage{From: q.From}
	page.Findings, page.Total = chosen(all, q)
	return page, nil
}

// byFile puts the findings of each file together, those of files with new ones first.
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

// narrowing returns the words that narrow a unit to what a request names, and to what in words.
func (s *Session) narrowing(units []string, r api.Request) (words []string, to string, err error) {
	if len(units) != 1 {
		return nil, "", api.Refuse("only one unit can be narrowed at a time, not %d", len(units))
	}
	u := s.Plan().Unit(units[0])
	chosen := r.Cases
	if m := s.trackers.get(u.Name); r.Failing && m != nil {
		m.mu.Lock()
		chosen = m.record.Failing()
		m.mu.Unlock()
	}
	// Whole packages that failed have no test to choose.
	if r.Failing {
		chosen = slices.DeleteFunc(chosen, func(c api.CaseName) bool { return c.Name == "" })
	}
	if len(chosen) == 0 {
		if r.Failing {
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
	return words, s.clean(format.ListOf(names[:min(len(names), named)], len(names))), nil
}
