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

	"github.com/modelcontextprotocol/go-sdk/mcp"

	"omnivigil/internal/api"
	"omnivigil/internal/api/changes"
	"omnivigil/internal/api/past"
	"omnivigil/internal/face/card"
	"omnivigil/internal/face/lookback"
	"omnivigil/internal/text/escape"
	"omnivigil/internal/text/format"
	"omnivigil/internal/text/suggest"
)

// Connect returns the project; it is called again when the project is gone. The error is returned to the assistant.
type Connect func(context.Context) (api.Project, error)

// Serve offers the project on standard input and output, until the other side closes them or
// the context is done. mayType is asked before anything is typed into a unit's terminal. It blocks.
func Serve(ctx context.Context, version string, connect Connect, mayType func() bool) error {
	m := newMessages(os.Stdin, os.Stdout)
	return server(version, connect, mayType).Run(ctx, &mcp.IOTransport{Reader: m, Writer: m})
}

// instructions tell an assistant when to use which tool.
const instructions = `Omnivigil runs this project's development processes: servers restart and tests rerun by
themselves when watched files change. After editing files, call wait: it returns when everything that the edit set off is at rest,
and reports whether the running code is the edited code, or what failed and where. Nothing has to be started or restarted
for an edit to take effect. Use why with a unit to read everything about a failure, and why with a path to predict
which units a file affects.`

// words collects lines of an answer.
type words struct{ strings.Builder }

func (w *words) add(format string, args ...any) {
	w.WriteString(escape.Lines(escape.Strip(fmt.Sprintf(format, args...))) + "\n")
}

func (w *words) verdict(v api.Verdict) { w.add("%s: %s", strings.ToUpper(string(v.Word)), v.Text) }

// waitLimit is the default timeout of wait: longer than most builds, shorter than the patience of most assistants.
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
			"It has not come to rest within %s. Call wait again, or status to see what is under way.",
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

// snapshot returns the project and its state.
func (t *tools) snapshot(ctx context.Context) (api.Project, *api.Snapshot, error) {
	p, err := t.connect(ctx)
	if err != nil {
		return nil, nil, err
	}
	snap, err := p.Snapshot(ctx)
	return p, snap, err
}

func (t *tools) status(ctx context.Context, in maybeUnit) (string, error) {
	p, snap, err := t.snapshot(ctx)
	if err != nil {
		return "", err
	}
	if in.Unit != "" {
		return unitInFull(ctx, p, snap, in.Unit)
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
			u.Word(),
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
	return nil, fmt.Errorf("there is no unit %q; %s", name, suggest.Hint(name, snap.UnitNames()))
}

func (t *tools) why(ctx context.Context, in unitOrPath) (string, error) {
	p, snap, err := t.snapshot(ctx)
	if err != nil {
		return "", err
	}
	if snap.Unit(in.Of) == nil {
		return impactOf(ctx, p, in.Of)
	}
	return explanationOf(ctx, p, snap, in.Of)
}

// explanationOf explains the state of a unit, as every face does.
func explanationOf(ctx context.Context, p api.Project, snap *api.Snapshot, unit string) (string, error) {
	e, err := p.Explain(ctx, unit)
	if err != nil {
		return "", err
	}
	var w words
	card.Write(&w, e, snap.Project.Root, snap.At)
	return w.String(), nil
}

// unitInFull explains the state of a unit and lists its settings, files, variables and processes.
func unitInFull(ctx context.Context, p api.Project, snap *api.Snapshot, name string) (string, error) {
	d, err := p.Detail(ctx, name)
	if err != nil {
		return "", err
	}
	why, err := explanationOf(ctx, p, snap, name)
	if err != nil {
		return "", err
	}
	var w words
	w.WriteString(why)
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

func (t *tools) observed(ctx context.Context, in anyUnits) (string, error) {
	p, err := t.connect(ctx)
	if err != nil {
		return "", err
	}
	all, err := p.Observations(ctx, in.Units)
	if err != nil {
		return "", err
	}
	var w words
	if len(all.Units) == 0 {
		w.add("No unit has been observed. observe = true in a unit's settings observes each of its runs.")
	}
	for _, o := range all.Units {
		w.add("%s: read %s, wrote %s, listens on %s%s", o.Unit, format.Count(len(o.Reads), "file"),
			format.Count(len(o.Writes), "file"), cmp.Or(format.List(o.Listens), "no address"), reason(o.Problem))
	}
	for _, m := range all.Mismatches {
		w.add("%s: %s %s", m.Severity, m.Unit, m.Text)
		for _, e := range m.Edits {
			w.add("    proposed for %s (line %d): %s", e.Unit, m.Line, e.Text)
		}
	}
	return w.String(), nil
}

// lastWords adds the lines of a run that tell why it ended.
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
		w.changed(ctx, p, r.ID)
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

// changed adds what a ripple has changed, as far as it is kept.
func (w *words) changed(ctx context.Context, p api.Record, ripple int) {
	const most, ofPart = 150, 20 // lines
	c, err := p.Changes(ctx, changes.Query{Ripple: ripple})
	if err != nil {
		return
	}
	rows := card.Changes(c.Files, ofPart)
	for i, r := range rows {
		if i == most {
			w.add("  %s; omnivigil ripples %d --diff prints all", format.Count(len(rows)-most, "more line"), ripple)
			return
		}
		w.add("  %s", r.Text)
	}
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

// impactOf predicts what saving a path would set off.
func impactOf(ctx context.Context, p api.Project, path string) (string, error) {
	f, err := p.Why(ctx, path)
	if err != nil {
		return "", err
	}
	var w words
	for _, line := range f.Text {
		w.add("%s", line)
	}
	return w.String(), nil
}

// resultQuery parses the arguments of a tool; usual is the default.
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
			w.add("    %s%s", c.Location.Text(), strings.ReplaceAll(c.Message, "\n", "\n    "))
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

// rest tells how many there are in addition to those listed.
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
			f.Location.Text(),
			f.Severity,
			f.Message,
			rule,
			cmp.Or(string(f.Change), "there"),
			f.Reporters(),
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
	return strings.TrimSpace(fmt.Sprintf("%s That is ripple %d. Call wait to learn how it ends.", answer.Text,
		answer.Ripple)), nil
}

// request returns a tool that sends a request.
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

// maxHistory is how many rows of the history are returned at once.
const maxHistory = 50

// history shows a part of the history.
func (t *tools) history(ctx context.Context, in someHistory) (string, error) {
	q := past.Query{What: past.Kind(in.What), Units: in.Units, Branch: in.Branch, Count: maxHistory}
	if !slices.Contains(append(past.Kinds, ""), q.What) {
		return "", fmt.Errorf("what must be units, runs, ripples, tests or trends, not %q", in.What)
	}
	var err error
	if q.Since, err = lookback.Since(in.Since, time.Now()); err != nil {
		return "", err
	}
	p, err := t.connect(ctx)
	if err != nil {
		return "", err
	}
	h, err := p.History(ctx, q)
	if err != nil {
		return "", err
	}
	var w words
	for _, row := range lookback.Rows(h, time.Now()) {
		w.add("%s", row)
	}
	return w.String(), nil
}
