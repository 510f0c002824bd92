// Package mcp is the face for coding assistants: it offers a running project as tools over the Model Context Protocol
// (modelcontextprotocol.io). No tool runs anything that is not in the project's settings.
package mcp

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/modelcontextprotocol/go-sdk/mcp"

	"omnivigil/internal/api"
	"omnivigil/internal/text/escape"
	"omnivigil/internal/text/format"
)

// Connect returns the project that is meant; it is called again when that has gone. The
// error is told to the assistant.
type Connect func(context.Context) (api.Project, error)

// Serve offers the project on standard input and output, until the other side closes them or
// the context is done. mayType is asked before anything is typed into a unit's terminal. It blocks.
func Serve(ctx context.Context, version string, connect Connect, mayType func() bool) error {
	m := newMessages(os.Stdin, os.Stdout)
	return server(version, connect, mayType).Run(ctx, &mcp.IOTransport{Reader: m, Writer: m})
}

// instructions tell an assistant when to use which tool.
const instructions = `Omnivigil runs this project's development processes: servers restart and tests rerun by
themselves when watched files change. After you have edited files, call wait: it returns when
everything that your edit set off has come to rest, and tells whether the running code is the
edited one, or what failed and where. You need not start or restart anything for an edit to take
effect. Use output or ripple to read more of what failed, and what_if to learn beforehand which
units a file concerns.`

// tools has the project for the tools' handlers.
type tools struct {
	connect Connect
	mayType func() bool
}

func server(version string, connect Connect, mayType func() bool) *mcp.Server {
	s := mcp.NewServer(
		&mcp.Implementation{Name: "omnivigil", Version: version},
		&mcp.ServerOptions{Instructions: instructions},
	)
	t := &tools{connect, mayType}
	reads := &mcp.ToolAnnotations{ReadOnlyHint: true}
	changes := func(destroys, onlyOnce bool) *mcp.ToolAnnotations {
		return &mcp.ToolAnnotations{DestructiveHint: &destroys, IdempotentHint: onlyOnce}
	}
	add(
		s,
		"wait",
		"Wait until all that was saved before this call has come to rest, then tell how it ended: whether everything, or the named units, runs the newest code, and if not which unit is broken or stale, why, and the first line of its output that says so. Call this after editing files, before looking at anything else.",
		reads,
		t.wait,
	)
	add(
		s,
		"state",
		"Tell how the project is now: its verdict and each unit with its state, whether it runs the newest code, why not if not, and its addresses.",
		reads,
		t.state,
	)
	add(
		s,
		"why",
		"Tell why one unit is as it is: what its newest run was for, how it ended, what holds it up, which files changed since it last ran well, and the lines of its output that say why it failed.",
		reads,
		t.why,
	)
	add(
		s,
		"unit",
		"Tell one unit whole: its settings in words, which files concern it by which pattern, its environment with where each value comes from (secret ones without), and its processes.",
		reads,
		t.unit,
	)
	add(
		s,
		"ripple",
		"Tell what one save, request or crash has set off: which files, which units ran in which order and for how long, how it ended, with the output of the runs that failed. Without a number it is the newest one.",
		reads,
		t.ripple,
	)
	add(
		s,
		"output",
		"Read output, or search in it: the last lines of one unit, or of all units together, or of one run, or that match words. Stack traces come whole.",
		reads,
		t.output,
	)
	add(
		s,
		"screen",
		"Read what a unit's terminal shows now, or what its last run has left there: programs that draw a full screen, prompts, what was typed. Says whether the unit waits for input.",
		reads,
		t.screen,
	)
	add(
		s,
		"type",
		"Type a line into a unit's terminal, such as the answer to its question, or press keys there. Only where the person allows it in their own settings. Look at screen afterwards.",
		changes(true, false),
		t.typeInto,
	)
	add(
		s,
		"what_if",
		"Tell what a save of a file would set off: which units would act, by which rule of the settings and in which order, or what ignores the file.",
		reads,
		t.whatIf,
	)
	add(
		s,
		"tests",
		"List tests, the newly failing ones first: message, place, what was expected and what was there; which are flaky or slow. By default only those that fail.",
		reads,
		t.tests,
	)
	add(
		s,
		"findings",
		"List what compilers, linters and stack traces tell of places in files: file, line, column, rule, message, and whether each is new since the run before. By default all that are there.",
		reads,
		t.findings,
	)
	add(
		s,
		"narrow",
		"Have a suite run only some of its tests, now and on every change, until widen: while working on these. Name the tests as the tool tests lists them, or leave them out for those that fail. A narrowed suite counts as stale, however green: call widen when done.",
		changes(false, true),
		t.narrow,
	)
	add(
		s,
		"widen",
		"Have a suite that was narrowed run all of its tests again.",
		changes(false, true),
		t.request(api.Widen),
	)
	add(
		s,
		"run",
		"Start or rerun units of the settings that do not run, with what they need. Units that run are left alone.",
		changes(false, true),
		t.request(api.Start),
	)
	add(
		s,
		"restart",
		"Restart or rerun units of the settings, whether anything has changed or not. Rarely needed: saved files take effect by themselves.",
		changes(true, false),
		t.request(api.Restart),
	)
	add(
		s,
		"stop",
		"Stop units until they are started again. Stopped units do not react to edits.",
		changes(true, true),
		t.request(api.Stop),
	)
	return s
}

// add adds a tool that answers in words.
func add[In any](
	s *mcp.Server,
	name, description string,
	hints *mcp.ToolAnnotations,
	do func(context.Context, In) (string, error),
) {
	mcp.AddTool(s, &mcp.Tool{Name: name, Description: description, Annotations: hints},
		func(ctx context.Context, _ *mcp.CallToolRequest, in In) (*mcp.CallToolResult, any, error) {
			text, err := do(ctx, in)
			if err != nil {
				return nil, nil, err // which the SDK tells as the tool's own error
			}
			return &mcp.CallToolResult{Content: []mcp.Content{&mcp.TextContent{Text: text}}}, nil, nil
		})
}

// What the tools take. The texts tell assistants what each is.
type (
	nothing  struct{}
	waitWhat struct {
		Units   []string `json:"units,omitempty" jsonschema:"names of units or groups to wait for; leave out for everything"`
		Timeout float64  `json:"timeout,omitempty" jsonschema:"seconds to wait at most, 120 unless given"`
	}
	oneUnit struct {
		Unit string `json:"unit" jsonschema:"the unit's name"`
	}
	someUnits struct {
		Units []string `json:"units" jsonschema:"names of units or groups of the settings"`
	}
	oneRipple struct {
		Number int `json:"number,omitempty" jsonschema:"the ripple's number; leave out for the newest"`
	}
	outputOf struct {
		Unit  string `json:"unit,omitempty" jsonschema:"the unit's name; leave out for all units together"`
		Run   int    `json:"run,omitempty" jsonschema:"only of this run of the unit"`
		Only  string `json:"only,omitempty" jsonschema:"only lines with these words, all of them: text, \"text with spaces\", /an expression/, unit=NAME,NAME, run=N, ripple=N or ripple=last (what the newest save has set off), level=error, warning, info or debug, event=start, end, failure or note; ! before one is its opposite"`
		Lines int    `json:"lines,omitempty" jsonschema:"how many of the last lines, 50 unless given, 1000 at most"`
	}
	someResults struct {
		Units []string `json:"units,omitempty" jsonschema:"names of units or groups; leave out for all"`
		Only  string   `json:"only,omitempty" jsonschema:"of tests: failing (unless given), new, fixed, flaky, slow, skipped, passed or all; of findings: error, warning, new, gone or all"`
		Text  string   `json:"text,omitempty" jsonschema:"only tests whose names contain this text, files or messages"`
		Count int      `json:"count,omitempty" jsonschema:"how many, 50 unless given"`
	}
	typed struct {
		Unit  string   `json:"unit" jsonschema:"the unit's name"`
		Text  string   `json:"text,omitempty" jsonschema:"what is typed; enter is pressed after it"`
		Keys  []string `json:"keys,omitempty" jsonschema:"keys that are pressed after that, such as enter, esc, ctrl+c, up, f5"`
		Plain bool     `json:"no_enter,omitempty" jsonschema:"true: enter is not pressed after the text"`
	}
	narrowTo struct {
		Unit  string   `json:"unit" jsonschema:"the suite's name"`
		Tests []string `json:"tests,omitempty" jsonschema:"names of tests, as the tool tests lists them; leave out for those that fail"`
	}
	onePath struct {
		Path string `json:"path" jsonschema:"the file's path, absolute or from the project's directory"`
	}
)

// words collects lines of an answer.
type words struct{ strings.Builder }

func (w *words) add(format string, args ...any) {
	w.WriteString(escape.Lines(ansi.Strip(fmt.Sprintf(format, args...))) + "\n")
}

func (w *words) verdict(v api.Verdict) { w.add("%s: %s", strings.ToUpper(string(v.Word)), v.Text) }

// waitLimit is how long is waited unless the assistant says otherwise: longer than most
// builds, shorter than most assistants have patience.
const waitLimit = 120 * time.Second

func (t *tools) wait(ctx context.Context, in waitWhat) (string, error) {
	p, err := t.connect(ctx)
	if err != nil {
		return "", err
	}
	limit := waitLimit
	if in.Timeout > 0 {
		limit = time.Duration(in.Timeout * float64(time.Second))
	}
	waited, err := p.Wait(ctx, api.WaitQuery{Units: in.Units, Timeout: api.Seconds(limit)})
	if err != nil {
		return "", err
	}
	var w words
	if waited.TimedOut {
		w.add(
			"It has not come to rest within %s. Call wait again, or state to see what is under way.",
			format.Duration(limit),
		)
	}
	w.verdict(waited.Verdict)
	for _, u := range waited.Trouble {
		w.add("%s: %s, %s%s", u.Unit, u.State, freshnessWords(u.Freshness), reason(u.Why))
		if u.Line != nil {
			w.add("    %s", u.Line.Text)
		}
	}
	return w.String(), nil
}

func freshnessWords(f api.Freshness) string {
	if f == api.NoCode {
		return "runs no code"
	}
	return string(f)
}

func reason(why string) string {
	if why == "" {
		return ""
	}
	return ": " + why
}

// snapshot returns the project and how it is.
func (t *tools) snapshot(ctx context.Context) (api.Project, *api.Snapshot, error) {
	p, err := t.connect(ctx)
	if err != nil {
		return nil, nil, err
	}
	snap, err := p.Snapshot(ctx)
	return p, snap, err
}

func (t *tools) state(ctx context.Context, _ nothing) (string, error) {
	_, snap, err := t.snapshot(ctx)
	if err != nil {
		return "", err
	}
	var w words
	w.add("project %s in %s", snap.Project.Name, snap.Project.Root)
	w.verdict(snap.Verdict)
	if snap.Settings != "" {
		w.add("the settings just saved have an error and are not used: %s", snap.Settings)
	}
	for _, u := range snap.Units {
		text := fmt.Sprintf(
			"%s (%s): %s, %s%s",
			u.Name,
			u.Kind,
			u.State,
			freshnessWords(u.Freshness),
			reason(snap.WhyOf(u)),
		)
		if u.Report.Text != "" {
			text += "; " + u.Report.Text
		}
		if u.Narrowed != "" {
			text += "; narrowed to " + u.Narrowed
		}
		if ask, asks := snap.Asks[u.Name]; asks {
			text += "; waits for " + ask.For()
		}
		for _, a := range snap.Uses[u.Name].Addresses {
			text += ", listens on " + a.String()
		}
		w.add("%s", text)
	}
	for _, name := range slices.Sorted(maps.Keys(snap.Project.Groups)) {
		w.add("group %s: %s", name, strings.Join(snap.Project.Groups[name], ", "))
	}
	return w.String(), nil
}

// unit returns one unit of the project.
func unit(snap *api.Snapshot, name string) (*api.Unit, error) {
	if u := snap.Unit(name); u != nil {
		return u, nil
	}
	var names []string
	for _, u := range snap.Units {
		names = append(names, u.Name)
	}
	return nil, fmt.Errorf("there is no unit %q; the units are %s", name, strings.Join(names, ", "))
}

func (t *tools) why(ctx context.Context, in oneUnit) (string, error) {
	p, snap, err := t.snapshot(ctx)
	if err != nil {
		return "", err
	}
	u, err := unit(snap, in.Unit)
	if err != nil {
		return "", err
	}
	var w words
	for _, line := range snap.Account(u) {
		w.add("%s", line)
	}
	if u.State.Broken() {
		err = w.lastWords(ctx, p, u.Name, u.Run.Number)
	}
	return w.String(), err
}

func (t *tools) unit(ctx context.Context, in oneUnit) (string, error) {
	p, _, err := t.snapshot(ctx)
	if err != nil {
		return "", err
	}
	d, err := p.Detail(ctx, in.Unit)
	if err != nil {
		return "", err
	}
	var w words
	for _, s := range d.Settings {
		w.add("%s: %s", s.Name, s.Text)
	}
	for _, r := range d.Rules {
		w.add(
			"files: %s matches %s (%s): %s",
			r.Pattern,
			format.Count(r.Files, "file"),
			strings.Join(r.Some, ", "),
			r.Does,
		)
	}
	for _, v := range d.Variables {
		w.add("variable: %s=%s, from %s", v.Name, cmp.Or(v.Value, "(secret or empty)"), v.From)
	}
	for _, one := range d.Processes {
		w.add("process: %d, %s, %s", one.PID, format.Bytes(float64(one.Memory)), one.Command)
	}
	return w.String(), nil
}

// lastWords adds the lines of a run that say why it ended.
func (w *words) lastWords(ctx context.Context, p api.Project, unit string, run int) error {
	const most = 20
	page, err := p.Lines(ctx, api.LineQuery{Unit: unit, Run: run, Why: true, Count: most})
	for _, l := range page.Lines {
		w.add("    %s", l.Text)
	}
	return err
}

func (t *tools) ripple(ctx context.Context, in oneRipple) (string, error) {
	p, snap, err := t.snapshot(ctx)
	if err != nil {
		return "", err
	}
	if len(snap.Ripples) == 0 {
		return "", errors.New("nothing has been set off yet")
	}
	r := snap.Ripples[len(snap.Ripples)-1]
	if in.Number > 0 {
		if r = snap.Ripple(in.Number); r == nil {
			return "", fmt.Errorf(
				"ripple %d is not known; the newest is %d",
				in.Number,
				snap.Ripples[len(snap.Ripples)-1].ID,
			)
		}
	}
	var w words
	w.add("ripple %d at %s: %s", r.ID, format.Clock(r.Since), r.Title)
	if len(r.Paths) > 0 {
		w.add("files: %s", strings.Join(r.Paths, ", "))
	}
	switch {
	case !r.Resting():
		w.add("it is not at rest yet")
	default:
		w.add("%s after %s%s", r.Outcome, format.Duration(r.RestAt.Sub(r.Since)), reason(r.Detail))
	}
	for _, ref := range r.Runs {
		took := format.Duration(ref.Took.Duration())
		if !ref.Failed {
			w.add("%s run %d took %s", ref.Unit, ref.Number, took)
			continue
		}
		w.add("%s run %d failed after %s:", ref.Unit, ref.Number, took)
		if err := w.lastWords(ctx, p, ref.Unit, ref.Number); err != nil {
			return "", err
		}
	}
	return w.String(), nil
}

func (t *tools) output(ctx context.Context, in outputOf) (string, error) {
	p, snap, err := t.snapshot(ctx)
	if err != nil {
		return "", err
	}
	if in.Unit != "" {
		if _, err := unit(snap, in.Unit); err != nil {
			return "", err
		}
	}
	const usual, most = 50, 1000
	if in.Lines <= 0 {
		in.Lines = usual
	}
	page, err := p.Lines(
		ctx,
		api.LineQuery{Filter: in.Only, Unit: in.Unit, Run: in.Run, Last: true, Count: min(in.Lines, most)},
	)
	if err != nil {
		return "", err
	}
	var w words
	for _, l := range page.Lines {
		who := l.Unit
		if l.Stream != api.Output {
			who = strings.TrimSpace("omnivigil: " + l.Unit)
		}
		w.add("%s %s  %s", l.At.Format("15:04:05.000"), who, l.Text)
	}
	if len(page.Lines) == 0 {
		return "there is no output", nil
	}
	return w.String(), nil
}

func (t *tools) whatIf(ctx context.Context, in onePath) (string, error) {
	p, err := t.connect(ctx)
	if err != nil {
		return "", err
	}
	f, err := p.Why(ctx, in.Path)
	if err != nil {
		return "", err
	}
	var w words
	for _, line := range f.Text {
		w.add("%s", line)
	}
	return w.String(), nil
}

// resultQuery reads what a tool is asked for; usual is what is meant where it does not say.
func (in someResults) query(usual string) api.ResultQuery {
	const many = 50
	q := api.ResultQuery{Units: in.Units, Only: cmp.Or(in.Only, usual), Text: in.Text, Count: cmp.Or(in.Count, many)}
	if q.Only == "all" {
		q.Only = ""
	}
	return q
}

func (t *tools) tests(ctx context.Context, in someResults) (string, error) {
	p, snap, err := t.snapshot(ctx)
	if err != nil {
		return "", err
	}
	page, err := p.Cases(ctx, in.query("failing"))
	if err != nil {
		return "", err
	}
	var w words
	for _, u := range snap.Units {
		if u.Report.Cases > 0 {
			w.add("%s: %s", u.Name, u.Report.Text)
		}
	}
	for _, c := range page.Cases {
		w.add(
			"%s %s %s%s%s",
			c.Unit,
			c.Title(),
			cmp.Or(string(c.Change), string(c.Status)),
			mark(c.Flaky, ", flaky"),
			mark(c.Slow, ", slow"),
		)
		if c.Status == api.CaseFailed {
			w.add("    %s%s", c.FilePlace.Text(), strings.ReplaceAll(c.Message, "\n", "\n    "))
		}
	}
	w.rest(page.Total, len(page.Cases), "test")
	return w.String(), nil
}

func mark(is bool, text string) string {
	if !is {
		return ""
	}
	return text
}

// rest says how many there are beside those that were listed.
func (w *words) rest(total, listed int, what string) {
	switch {
	case total == 0:
		w.add("There is no such %s.", what)
	case total > listed:
		w.add("and %s more", format.Count(total-listed, what))
	}
}

func (t *tools) findings(ctx context.Context, in someResults) (string, error) {
	p, err := t.connect(ctx)
	if err != nil {
		return "", err
	}
	page, err := p.Findings(ctx, in.query(""))
	if err != nil {
		return "", err
	}
	var w words
	for _, f := range page.Findings {
		rule := ""
		if f.Rule != "" {
			rule = " (" + f.Rule + ")"
		}
		w.add(
			"%s%s: %s%s; %s, of %s",
			f.FilePlace.Text(),
			f.Severity,
			f.Message,
			rule,
			cmp.Or(string(f.Change), "there"),
			f.Unit,
		)
	}
	w.rest(page.Total, len(page.Findings), "finding")
	return w.String(), nil
}

func (t *tools) narrow(ctx context.Context, in narrowTo) (string, error) {
	p, err := t.connect(ctx)
	if err != nil {
		return "", err
	}
	r := api.Request{Action: api.Narrow, Units: []string{in.Unit}, Failing: len(in.Tests) == 0}
	for _, name := range in.Tests {
		r.Cases = append(r.Cases, api.CaseName{Name: name})
	}
	answer, err := p.Do(ctx, r)
	if err != nil {
		return "", err
	}
	return fmt.Sprintf("That is ripple %d. Call wait to learn how it ends.", answer.Ripple), nil
}

// request returns a tool that asks for something to be done.
func (t *tools) request(a api.Action) func(context.Context, someUnits) (string, error) {
	return func(ctx context.Context, in someUnits) (string, error) {
		if len(in.Units) == 0 {
			return "", errors.New("name at least one unit or group")
		}
		p, err := t.connect(ctx)
		if err != nil {
			return "", err
		}
		answer, err := p.Do(ctx, api.Request{Action: a, Units: in.Units})
		switch {
		case err != nil:
			return "", err
		case answer.Ripple == 0:
			return answer.Text, nil
		}
		return fmt.Sprintf("That is ripple %d. Call wait to learn how it ends.", answer.Ripple), nil
	}
}
