package record

import (
	"cmp"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/api/report"
	"omnivigil/internal/results"
	"omnivigil/internal/text/format"
)

// Summary is a record in a few numbers.
type Summary struct {
	report.Counts
	// ToldErrors and ToldWarnings: a tool has reported some in the newest round.
	ToldErrors, ToldWarnings bool
	// Usual is the duration of the last whole run; 0: unknown.
	Usual time.Duration
}

// Version changes with every change.
func (r *Record) Version() int { return r.version }

// Sum returns the summary. It looks at everything in the record.
func (r *Record) Sum() Summary {
	s := Summary{
		Counts:       report.Counts{Run: r.run.Number, Version: r.version, OnlyFailures: r.onlyFailures},
		ToldErrors:   r.fails[results.Error],
		ToldWarnings: r.fails[results.Warning],
		Usual:        r.lastTook,
	}
	s.Cases, s.Expected = len(r.cases), max(r.planned, r.lastWhole)
	if !r.whole() {
		s.Expected = r.planned
	}
	for _, t := range r.cases {
		if t.Run == r.run.Number {
			s.Ran++
			count(t.Status == results.Failed, &s.FailedNow)
		}
		count(t.Status == results.Passed, &s.Passed)
		count(t.Status == results.Failed, &s.Failed)
		count(t.Status == results.Skipped, &s.Skipped)
		count(t.Change == api.NewlyFailing, &s.New)
		count(t.Change == api.NewlyPassing, &s.Fixed)
		count(t.Flaky, &s.Flaky)
		count(t.Slow, &s.Slow)
	}
	if s.Failed > 0 {
		s.Names = r.failing()
	}
	newest := 0
	for key, number := range r.running {
		if number > newest {
			newest, s.Running = number, results.Case{Suite: key.Suite, Name: key.Name}.Title()
		}
	}
	var first *TrackedFinding
	for _, f := range r.findings {
		if f.Change == api.GoneFinding {
			s.Gone++
			continue
		}
		count(f.Severity == results.Error, &s.Errors)
		count(f.Severity == results.Warning, &s.Warnings)
		count(f.Change == api.NewFinding && f.Severity != results.Note, &s.Added)
		if first == nil || weight(f) > weight(first) {
			first = f
		}
	}
	if first != nil && first.Severity != results.Note {
		s.First = r.short(first.Finding).Text()
	}
	return s
}

func count(is bool, n *int) {
	if is {
		*n++
	}
}

// weight is the importance of a finding: errors before warnings, new before others.
func weight(f *TrackedFinding) int {
	w := 2 * int(f.Severity)
	if f.Change == api.NewFinding {
		w++
	}
	return w
}

// maxNames limits the failed cases that a summary names.
const maxNames = 3

func (r *Record) failed() []*TrackedCase {
	var failed []*TrackedCase
	for _, t := range r.cases {
		if t.Status == results.Failed {
			failed = append(failed, t)
		}
	}
	slices.SortFunc(failed, compareCases)
	return failed
}

func (r *Record) failing() []string {
	failed := r.failed()
	if r.live { // those of earlier runs may pass this time
		slices.SortStableFunc(failed, func(a, b *TrackedCase) int { return b.Run - a.Run })
	}
	names := make([]string, 0, maxNames)
	for _, t := range failed[:min(len(failed), maxNames)] {
		names = append(names, t.Title())
	}
	return names
}

// compareCases sorts by importance: newly failing, failing, flaky; then by name.
func compareCases(a, b *TrackedCase) int {
	return cmp.Or(rankOf(a)-rankOf(b), naturally(a.Suite, b.Suite), naturally(a.Name, b.Name))
}

// naturally compares texts as people do: numbers in them by value.
func naturally(a, b string) int {
	for a != "" && b != "" {
		if !digit(a[0]) || !digit(b[0]) {
			if a[0] != b[0] {
				return int(a[0]) - int(b[0])
			}
			a, b = a[1:], b[1:]
			continue
		}
		m, n := digits(a), digits(b)
		x, y := strings.TrimLeft(a[:m], "0"), strings.TrimLeft(b[:n], "0")
		if order := cmp.Or(len(x)-len(y), strings.Compare(x, y), n-m); order != 0 {
			return order
		}
		a, b = a[m:], b[n:]
	}
	return len(a) - len(b)
}

// digits is the number of digits at the beginning of a text.
func digits(text string) int {
	n := 0
	for n < len(text) && digit(text[n]) {
		n++
	}
	return n
}

func rankOf(t *TrackedCase) int {
	switch {
	case t.Change == api.NewlyFailing:
		return 0
	case t.Status == results.Failed:
		return 1
	case t.Change == api.NewlyPassing:
		return 2
	case t.Flaky:
		return 3
	case t.Slow:
		return 4
	case t.Status == results.Skipped:
		return 6
	}
	return 5
}

// Failing returns the failing cases, the most important ones first.
func (r *Record) Failing() []api.CaseName {
	var out []api.CaseName
	for _, t := range r.failed() {
		out = append(out, api.CaseName{Suite: t.Suite, Name: t.Name})
	}
	return out
}

// Case returns a copy of a case.
func (r *Record) Case(of api.CaseName) (TrackedCase, bool) {
	t := r.cases[api.CaseName{Suite: of.Suite, Name: of.Name}]
	if t == nil {
		return TrackedCase{}, false
	}
	out := *t
	out.Past = slices.Clone(t.Past)
	return out, true
}

// News describes what the newest run has changed, apart from its failures: which cases were fixed, which findings are
// new and how many are gone. Empty: nothing.
func (r *Record) News() string {
	var fixed, found []string
	gone := 0
	for _, t := range r.Cases() {
		if t.Change == api.NewlyPassing {
			fixed = append(fixed, t.Title())
		}
	}
	for _, f := range r.Findings() {
		switch {
		case f.Change == api.GoneFinding:
			gone++
		case f.Change == api.NewFinding && f.Severity != results.Note:
			found = append(found, strings.TrimSuffix(r.short(f.Finding).Location.Text(), ": "))
		}
	}
	var parts []string
	for _, p := range []struct {
		names []string
		what  string
	}{{fixed, "fixed"}, {found, "new"}} {
		if len(p.names) > 0 {
			parts = append(parts, p.what+": "+format.ListOf(p.names[:min(len(p.names), maxNames)], len(p.names)))
		}
	}
	if gone > 0 {
		parts = append(parts, format.Count(gone, "finding")+" gone")
	}
	return strings.Join(parts, "; ")
}

// short is a finding with its file relative to the project's directory.
func (r *Record) short(f results.Finding) results.Finding {
	if rel, err := filepath.Rel(r.Root, f.File); err == nil && filepath.IsLocal(rel) {
		f.File = filepath.ToSlash(rel)
	}
	return f
}

// Ran returns the cases that ran in the newest run, in no order, and whether nothing that affects the unit had changed
// before it.
func (r *Record) Ran() (cases []results.Case, same bool) {
	for _, t := range r.cases {
		if t.Run == r.run.Number {
			cases = append(cases, t.Case)
		}
	}
	return cases, r.run.Same
}

// Cases returns copies of all cases, the most important ones first.
func (r *Record) Cases() []TrackedCase {
	all := make([]*TrackedCase, 0, len(r.cases))
	for _, t := range r.cases {
		all = append(all, t)
	}
	slices.SortFunc(all, compareCases)
	out := make([]TrackedCase, len(all))
	for i, t := range all {
		out[i] = *t
		out[i].Past = slices.Clone(t.Past)
	}
	return out
}

// Findings returns copies of all findings, grouped by file.
func (r *Record) Findings() []TrackedFinding {
	out := make([]TrackedFinding, len(r.findings))
	for i, f := range r.findings {
		out[i] = *f
	}
	slices.SortStableFunc(out, func(a, b TrackedFinding) int {
		return cmp.Or(strings.Compare(a.File, b.File), a.Line-b.Line, a.Column-b.Column)
	})
	return out
}

func digit(c byte) bool { return '0' <= c && c <= '9' }
