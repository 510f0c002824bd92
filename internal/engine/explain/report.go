package explain

import (
	"fmt"
	"slices"
	"strings"

	"omnivigil/internal/engine"
	"omnivigil/internal/text/format"
)

// Report describes the problems of a report: "2 tests failing (1 new): TestBerths, TestTides", or "3 errors (1 new):
// berths.go:8:5: undefined: tide"; empty: there are none.
func Report(r engine.Report) string {
	switch {
	case r.Failed > 0:
		text := format.Count(r.Failed, "test") + " failing" + added(r.New) + ": " + strings.Join(r.Names, ", ")
		if r.Failed > len(r.Names) {
			text += ", ..."
		}
		return text
	case r.Errors == 1:
		return r.First
	case r.Errors > 1:
		return format.Count(r.Errors, "error") + added(r.Added) + ": " + r.First
	}
	return ""
}

// warnings is Report for a run that failed only because of warnings.
func warnings(r engine.Report) string {
	if r.Warnings == 0 {
		return ""
	}
	return format.Count(r.Warnings, "warning") + added(r.Added) + ": " + r.First
}

// soFar describes the failed tests of the current run; empty: none.
func soFar(r engine.Report) string {
	if r.FailedNow == 0 {
		return ""
	}
	names := r.Names[:min(len(r.Names), r.FailedNow)]
	return format.Count(r.FailedNow, "test") + " failing so far: " + strings.Join(names, ", ")
}

func added(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprintf(" (%d new)", n)
}

// Totals describes the counts of a report: "14 tests, 1 failing, 2 skipped; 3 warnings". Empty: there are none.
func Totals(r engine.Report) string {
	var parts []string
	add := func(n int, what string) {
		if n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, what))
		}
	}
	if r.Cases > 0 {
		if !r.OnlyFailures {
			parts = append(parts, format.Count(r.Cases, "test"))
		}
		add(r.Failed, "failing"+added(r.New))
		add(r.Fixed, "fixed")
		add(r.Skipped, "skipped")
		add(r.Flaky, "flaky")
		add(r.Slow, "slow")
	}
	tests := strings.Join(parts, ", ")
	if parts = nil; r.Errors > 0 {
		parts = append(parts, format.Count(r.Errors, "error"))
	}
	if r.Warnings > 0 {
		parts = append(parts, format.Count(r.Warnings, "warning"))
	}
	add(r.Added, "new")
	add(r.Gone, "gone")
	both := []string{tests, strings.Join(parts, ", ")}
	return strings.Join(slices.DeleteFunc(both, func(s string) bool { return s == "" }), "; ")
}
