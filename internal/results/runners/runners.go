// Package runners reads the results of tests from what test runners print: as a protocol, such as TAP and go test
// -json, or for people. No command is altered. What a runner does not tell, such as the names of passed tests, stays
// unknown. docs/results.md lists what is read of each; testdata of package readers has recordings.
//
// A Reader is for one goroutine. Start reading at Of; each form has its own file.
package runners

import (
	"omnivigil/internal/plan"
	"omnivigil/internal/results"
	"omnivigil/internal/results/runners/gotest"
	"omnivigil/internal/results/source"
)

// Reader reads one form of test results, line by line.
type Reader interface {
	// Read reports whether the line is of that form, so that no other form is tried.
	Read(line string) (mark results.Mark, taken bool)
	// End reports what is known only at the end. Complete: the run was not stopped, so what is missing has failed.
	End(complete bool)
}

// Reporter is a Reader whose runner also writes JUnit XML without being told to.
type Reporter interface {
	// Reports returns the pattern of the files, relative to the unit's directory; empty: that runner was not seen.
	Reports() string
}

// Of returns the readers of a form, which report to sink. Other reads the lines of builds within test results; built
// reports whether an error of a build has been reported.
func Of(
	form plan.ResultsForm, sink results.Sink, f *source.Files, other func(line string) results.Mark, built func() bool,
) []Reader {
	switch form {
	case plan.ResultsAuto:
		return []Reader{
			gotest.NewJSON(sink, f, other, built), gotest.NewText(sink, f, built), newTAP(sink, f), newSpec(sink, f),
			newLibtest(sink, f), newNumbered(sink, f), newPytest(sink, f), newUnittest(sink, f), newJest(sink, f),
			newVitest(sink, f), newCTest(sink, f), newSurefire(sink, f), newJUnitConsole(sink, f), newAVA(sink, f),
			newPlaywright(sink, f), newBats(sink, f), newGradle(sink, f),
		}
	case plan.ResultsGoJSON:
		return []Reader{gotest.NewJSON(sink, f, other, built)}
	case plan.ResultsTAP:
		return []Reader{newTAP(sink, f)}
	case plan.ResultsLibtest:
		return []Reader{newLibtest(sink, f)}
	}
	return nil
}
