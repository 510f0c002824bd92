package mcp

import (
	"context"

	"github.com/modelcontextprotocol/go-sdk/mcp"

	"omnivigil/internal/api"
)

// tools has the project for the handlers of the tools.
type tools struct {
	connect Connect
	mayType func() bool
}

// server returns the server with all tools. Assistants and their users read the texts.
func server(version string, connect Connect, mayType func() bool) *mcp.Server {
	s := mcp.NewServer(
		&mcp.Implementation{Name: "omnivigil", Version: version},
		&mcp.ServerOptions{Instructions: instructions},
	)
	t := &tools{connect, mayType}
	addReading(s, t)
	addChanging(s, t)
	return s
}

// addReading adds the tools that change nothing.
func addReading(s *mcp.Server, t *tools) {
	reads := &mcp.ToolAnnotations{ReadOnlyHint: true}
	add(s, "wait", "Wait until everything saved before this call is at rest, then report the result: whether "+
		"everything, or the named units, runs the newest code, and if not, which unit is broken or stale, why, and "+
		"the first line of output that says so. Call this after editing files, before looking at anything else.", reads,
		t.wait)
	add(s, "status", "Show the project's status: its verdict, and each unit's state, whether it runs the newest code "+
		"and if not, why, and its addresses. With a unit: that unit in full, with the reason for its state, its "+
		"settings in words, which files affect it and by which pattern, its environment and where each value comes "+
		"from (secret values are masked), and its processes.", reads, t.status)
	add(s, "why", "Explain a unit's state, or predict what saving a file would set off. For a unit: how it failed, "+
		"the failed tests and findings with their source lines, the last relevant lines of output, which files "+
		"changed since its last good run, with the lines, what it blocks, and what to do. For a path: which units "+
		"would act, by which rule and in which order, or what excludes the file.", reads, t.why)
	add(s, "ripples", "Show what one save, request or crash set off: the files and their changed lines, the units "+
		"that ran, in order and with their durations, the outcome, and the output of failed runs. Default: the newest "+
		"ripple.", reads, t.ripple)
	add(s, "logs", "Read or filter output: the last lines of one unit, of all units interleaved, of one run, or "+
		"those that match a filter. Stack traces are complete.", reads, t.output)
	add(s, "screen", "Read a unit's terminal screen as it is now, or as its last run left it: full-screen programs, "+
		"prompts, typed input. Says whether the unit is waiting for input.", reads, t.screen)
	add(s, "observe", "Show what units were seen to do and how that differs from their settings: files that they "+
		"read and no rule covers, outputs and needs that are not declared, with the lines that would settle it. "+
		"Nothing is written. Only units with observe = true, or that a user observes, are seen.", reads, t.observed)
	add(s, "tests", "List tests, newly failing ones first: message, location, expected and actual value; which are "+
		"flaky or slow. Default: only failing tests.", reads, t.tests)
	add(s, "findings", "List diagnostics of compilers, linters and stack traces: file, line, column, rule, message, "+
		"and whether each is new since the previous run. Default: all current ones.", reads, t.findings)
	add(s, "history", "Look back across sessions: a summary of each unit; its runs; ripples; tests with their rate of "+
		"failure, flaky ones first, and what failures coincide with; or trends: what has become slower or leaks since "+
		"which run, and what was saved and committed before it. At most 50 rows.", reads, t.history)
}

// addChanging adds the tools that change something.
func addChanging(s *mcp.Server, t *tools) {
	changes := func(destroys, onlyOnce bool) *mcp.ToolAnnotations {
		return &mcp.ToolAnnotations{DestructiveHint: &destroys, IdempotentHint: onlyOnce}
	}
	add(s, "type", "Type a line into a unit's terminal, such as the answer to a prompt, or press keys there. Only "+
		"if the user allows it in their personal settings. Call screen afterwards.", changes(true, false), t.typeInto)
	add(s, "narrow", "Run only some tests of a suite, now and on every change, until widen is called. Name the "+
		"tests as the tool tests lists them, or omit them to run the failing ones. A narrowed suite counts as stale "+
		"even when it passes: call widen when done.", changes(false, true), t.narrow)
	add(s, "widen", "Run all tests of a narrowed suite again.", changes(false, true), t.request(api.Widen))
	add(s, "run", "Start or rerun units that are not running, with what they need. Running units are not touched.",
		changes(false, true), t.request(api.Start))
	add(s, "restart", "Restart or rerun units, whether anything has changed or not. Rarely needed: saved files take "+
		"effect by themselves.", changes(true, false), t.request(api.Restart))
	add(s, "stop", "Stop units until they are started again. Stopped units do not react to edits.",
		changes(true, true), t.request(api.Stop))
}

// add adds a tool that answers with text.
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
				return nil, nil, err // the SDK sends it as the tool's own error
			}
			return &mcp.CallToolResult{Content: []mcp.Content{&mcp.TextContent{Text: text}}}, nil, nil
		})
}

// Parameters of the tools.
type (
	waitWhat struct {
		Units   []string `json:"units,omitempty" jsonschema:"unit or group names to wait for; default: everything"`
		Timeout float64  `json:"timeout,omitempty" jsonschema:"timeout in seconds; default: 120"`
	}
	oneUnit struct {
		Unit string `json:"unit" jsonschema:"unit name"`
	}
	someUnits struct {
		Units []string `json:"units" jsonschema:"unit or group names"`
	}
	anyUnits struct {
		Units []string `json:"units,omitempty" jsonschema:"unit or group names; default: all"`
	}
	someHistory struct {
		What   string   `json:"what,omitempty" jsonschema:"units, runs, ripples, tests or trends; default: units"`
		Units  []string `json:"units,omitempty" jsonschema:"unit names; default: all"`
		Since  string   `json:"since,omitempty" jsonschema:"only what began since then: 14d, 2h or 2030-05-04; default: all"`
		Branch string   `json:"branch,omitempty" jsonschema:"only what ran on this branch of version control"`
	}
	oneRipple struct {
		Number int `json:"number,omitempty" jsonschema:"ripple number; default: the newest"`
	}
	outputOf struct {
		Unit  string `json:"unit,omitempty" jsonschema:"unit name; default: all units"`
		Run   int    `json:"run,omitempty" jsonschema:"only this run of the unit"`
		Only  string `json:"only,omitempty" jsonschema:"filter; a line must match every term: text, \"text with spaces\", /regular expression/, unit=NAME,NAME, run=N, ripple=N or ripple=last (the newest save), level=error, warning, info or debug, event=start, end, failure or note; ! negates a term"`
		Lines int    `json:"lines,omitempty" jsonschema:"number of last lines; default: 50, maximum: 1000"`
	}
	someResults struct {
		Units []string `json:"units,omitempty" jsonschema:"unit or group names; default: all"`
		Only  string   `json:"only,omitempty" jsonschema:"tests: failing (default), new, fixed, flaky, slow, skipped, passed or all; findings: error, warning, new, gone or all"`
		Text  string   `json:"text,omitempty" jsonschema:"only tests whose name, or findings whose file or message, contains this text"`
		Count int      `json:"count,omitempty" jsonschema:"maximum number; default: 50"`
	}
	typed struct {
		Unit  string   `json:"unit" jsonschema:"unit name"`
		Text  string   `json:"text,omitempty" jsonschema:"text to type, followed by Enter"`
		Keys  []string `json:"keys,omitempty" jsonschema:"keys to press after the text, such as enter, esc, ctrl+c, up, f5"`
		Plain bool     `json:"no_enter,omitempty" jsonschema:"true: no Enter after the text"`
	}
	narrowTo struct {
		Unit  string   `json:"unit" jsonschema:"suite name"`
		Tests []string `json:"tests,omitempty" jsonschema:"test names as listed by the tool tests; default: the failing tests"`
	}
	maybeUnit struct {
		Unit string `json:"unit,omitempty" jsonschema:"unit name; default: the whole project"`
	}
	unitOrPath struct {
		Of string `json:"of" jsonschema:"unit name, or a path, absolute or relative to the project's directory; ./NAME is always a path"`
	}
)
