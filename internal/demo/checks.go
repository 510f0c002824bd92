package demo

import (
	"context"
	"errors"
	"fmt"
	"os"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"
)

// expectation is a test of the harbour master.
type expectation struct {
	Name, Of, Key, Skip string
	Least, Most         *float64
	Shaky               bool
}

// harbour runs the harbour master's tests, and reports the results in the Test Anything Protocol.
func harbour(ctx context.Context) error {
	const source = "harbour/expected.toml"
	var all struct{ Test []expectation }
	if err := readTOML(source, &all); err != nil {
		return err
	}
	lines, err := os.ReadFile(source)
	if err != nil {
		return err
	}
	failed := 0
	say("TAP version 14\n1..%d", len(all.Test))
	for i, e := range all.Test {
		began := time.Now()
		work(ctx, 40*time.Millisecond)
		if ctx.Err() != nil {
			return errors.New("interrupted")
		}
		got, err := e.value()
		switch {
		case e.Skip != "":
			say("ok %d - %s # SKIP %s", i+1, e.Name, e.Skip)
			continue
		case e.Shaky && nowAndThen():
			say("not ok %d - %s", i+1, e.Name)
			tellBlock("the buoy has not answered within 80 ms", "", "", lineOf(lines, e.Name), began)
			work(ctx, 80*time.Millisecond) // for the second attempt
		}
		problem := e.problem(got, err)
		if problem == "" {
			say(
				"%sok %d%s - %s # time=%.1fms",
				green,
				i+1,
				plain,
				e.Name,
				float64(time.Since(began).Microseconds())/1000,
			)
			continue
		}
		failed++
		say("not ok %d - %s", i+1, e.Name)
		tellBlock(problem, e.wanted(), strconv.FormatFloat(got, 'g', -1, 64), lineOf(lines, e.Name), began)
	}
	if failed > 0 {
		return fmt.Errorf("%d of %d tests failed", failed, len(all.Test))
	}
	return nil
}

// nowAndThen is true in every third run, not in the first.
func nowAndThen() bool {
	run, err := strconv.Atoi(os.Getenv("OMNIVIGIL_RUN"))
	return err == nil && run%3 == 0
}

// value reads what the expectation is about.
func (e expectation) value() (float64, error) {
	if e.Skip != "" {
		return 0, nil
	}
	data, err := os.ReadFile(e.Of)
	if err != nil {
		return 0, err
	}
	table := map[string]any{}
	if err := toml.Unmarshal(data, &table); err != nil {
		return 0, fmt.Errorf("%s cannot be read", e.Of)
	}
	var value any = table
	for key := range strings.SplitSeq(e.Key, ".") {
		inner, is := value.(map[string]any)
		if !is {
			return 0, fmt.Errorf("%s has no %s", e.Of, e.Key)
		}
		value = inner[key]
	}
	switch value := value.(type) {
	case float64:
		return value, nil
	case int64:
		return float64(value), nil
	}
	return 0, fmt.Errorf("%s has no number at %s", e.Of, e.Key)
}

// problem tells why the expectation fails; empty: it holds.
func (e expectation) problem(got float64, err error) string {
	switch {
	case err != nil:
		return err.Error()
	case e.Least != nil && got < *e.Least, e.Most != nil && got > *e.Most:
		return fmt.Sprintf("%s of %s is %g, expected %s", e.Key, e.Of, got, e.wanted())
	}
	return ""
}

func (e expectation) wanted() string {
	switch {
	case e.Least != nil && e.Most != nil && *e.Least == *e.Most:
		return fmt.Sprintf("%g", *e.Least)
	case e.Least != nil && e.Most != nil:
		return fmt.Sprintf("%g to %g", *e.Least, *e.Most)
	case e.Least != nil:
		return fmt.Sprintf("at least %g", *e.Least)
	case e.Most != nil:
		return fmt.Sprintf("at most %g", *e.Most)
	}
	return "anything"
}

// lineOf is the line with a test's name.
func lineOf(text []byte, name string) int {
	before, _, _ := strings.Cut(string(text), strconv.Quote(name))
	return strings.Count(before, "\n") + 1
}

// tellBlock prints the YAML block of a test point.
func tellBlock(message, want, got string, line int, began time.Time) {
	say("  ---")
	if message != "" {
		say("  message: %q\n  at:\n    file: harbour/expected.toml\n    line: %d", message, line)
	}
	if want != "" {
		say("  wanted: %q\n  found: %q", want, got)
	}
	say("  duration_ms: %.3f\n  ...", float64(time.Since(began).Microseconds())/1000)
}

// rule is a pattern that lint reports.
type rule struct {
	file, name, says, severity string
	at                         *regexp.Regexp
}

var rules = []rule{
	{"tickets/pages/index.html", "no-inline", "a style belongs into style.css", "error", regexp.MustCompile(`style="`)},
	{"tickets/pages/index.html", "table-head", "a table has no heading", "warning", regexp.MustCompile(`<table>`)},
	{
		"tickets/style.css",
		"palette",
		"this color is not one of the line's",
		"warning",
		regexp.MustCompile(`#(?:22303c|0b5a6e)`),
	},
}

// lint checks the pages as linters do.
func lint(ctx context.Context) error {
	errs := 0
	for _, r := range rules {
		work(ctx, 80*time.Millisecond)
		text, err := os.ReadFile(r.file)
		if err != nil {
			return err
		}
		for number, line := range strings.Split(string(text), "\n") {
			at := r.at.FindStringIndex(line)
			if at == nil {
				continue
			}
			color := yellow
			if r.severity == "error" {
				errs++
				color = "\x1b[31m"
			}
			say("%s:%d:%d: %s%s%s: %s [%s]", r.file, number+1, at[0]+1, color, r.severity, plain, r.says, r.name)
		}
	}
	if errs > 0 {
		return fmt.Errorf("%d errors", errs)
	}
	return nil
}
