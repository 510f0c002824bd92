package settings

import (
	"maps"
	"slices"
	"strings"

	"github.com/google/jsonschema-go/jsonschema"

	"omnivigil/internal/plan"
)

// Schema returns the JSON Schema (draft 2020-12) of settings files, for editors that complete and check them. It
// comes from the table of keys that files are read by, and rejects what reading rejects, except what a schema cannot
// express: references, cycles, files, variables, and the syntax of patterns, of words and of what tools capture.
func Schema() *jsonschema.Schema {
	root := tableShape(map[string]*jsonschema.Schema{
		"project": described("Settings of the whole project.", tableShape(map[string]*jsonschema.Schema{
			"name":      described("The project's name. Default: the name of its directory.", textShape()),
			"env_files": described("Files of environment variables; the first that sets a name wins.", filesShape()),
			"secret": described(
				"Patterns of variables whose values are masked everywhere, such as \"*_TOKEN\".", textsShape(),
			),
			"jobs": described(
				"The maximum number of tasks, suites and setup steps at once.",
				&jsonschema.Schema{Type: "integer", Minimum: new(float64(1))},
			),
			"on_verdict": described(
				"Runs when the verdict becomes broken or stale and stays so, and when it is current again; "+
					"OMNIVIGIL_VERDICT holds the verdict.", commandShape(),
			),
			"logs": described("Limits for the logs of all sessions; the oldest are deleted first.", limitsShape()),
			"history": described(
				"Limits for the history of runs, tests, findings and samples; the oldest are deleted first.", limitsShape(),
			),
			"keep_changes": described(
				"false: the contents of changed files are not kept. They show what changed; "+
					"env files and secrets never are.", flagShape(),
			),
			"members": described(
				"Patterns of directories with their own settings; their units are named MEMBER/UNIT.", textsShape(),
			),
			"share": described("Where the results of the team are, which tasks with \"reuse\" use.", shareShape()),
		})),
		"defaults": described("Keys that apply to all units which do not set them.", unitShape(0, true)),
		"group": described(
			"Names for several units.", named(tableShape(map[string]*jsonschema.Schema{"units": namesShape()})),
		),
	})
	var some []*jsonschema.Schema // of which a file must have at least one
	for _, kind := range kindsOfUnits {
		units := named(unitShape(kind, false))
		units.PropertyNames = &jsonschema.Schema{
			Pattern: unitNames.String(), Not: &jsonschema.Schema{Const: new(any("omnivigil"))},
		}
		root.Properties[kind.String()] = described(kindSays[kind], units)
		some = append(some, &jsonschema.Schema{
			Required:   []string{kind.String()},
			Properties: map[string]*jsonschema.Schema{kind.String(): {MinProperties: new(1)}},
		})
	}
	root.AnyOf = append(some, &jsonschema.Schema{
		Required: []string{"project"}, Properties: map[string]*jsonschema.Schema{"project": required("members")},
	})
	root.Properties["project"].DependentRequired = map[string][]string{"share": {"name"}}
	root.AllOf = []*jsonschema.Schema{
		unlessDefault("run", required("run"), plan.Service, plan.Task, plan.Suite),
		unlessDefault("listen", required("listen"), plan.PageServer),
		unlessDefault("outputs", &jsonschema.Schema{
			AnyOf: []*jsonschema.Schema{required("outputs"), {Not: required("reuse")}, isFlag("reuse", false)},
		}, plan.Task),
	}
	root.Schema, root.Title = "https://json-schema.org/draft/2020-12/schema", plan.FileName
	return root
}

var (
	kindsOfUnits = []plan.Kind{plan.Service, plan.Task, plan.Suite, plan.PageServer}
	kindSays     = map[plan.Kind]string{
		plan.Service: "Units that should keep running.", plan.Task: "Units that run and exit.",
		plan.Suite:      "Units that run and exit with test results.",
		plan.PageServer: "Page servers that refresh browsers.",
	}
)

// unlessDefault requires something of all units of some kinds, unless [defaults] have a key.
func unlessDefault(key string, of *jsonschema.Schema, kinds ...plan.Kind) *jsonschema.Schema {
	all := &jsonschema.Schema{Properties: map[string]*jsonschema.Schema{}}
	for _, kind := range kinds {
		all.Properties[kind.String()] = named(of.CloneSchemas())
	}
	return &jsonschema.Schema{AnyOf: []*jsonschema.Schema{
		{Required: []string{"defaults"}, Properties: map[string]*jsonschema.Schema{"defaults": required(key)}}, all,
	}}
}

func required(key string) *jsonschema.Schema { return &jsonschema.Schema{Required: []string{key}} }

// oneOf requires exactly one of some keys.
func oneOf(keys ...string) (all []*jsonschema.Schema) {
	for _, key := range keys {
		all = append(all, required(key))
	}
	return all
}

func isFlag(key string, value bool) *jsonschema.Schema {
	return &jsonschema.Schema{Properties: map[string]*jsonschema.Schema{key: {Const: new(any(value))}}}
}

// unitShape is the shape of the table of a unit of a kind, or of [defaults].
func unitShape(kind plan.Kind, defaults bool) *jsonschema.Schema {
	properties := map[string]*jsonschema.Schema{}
	for _, name := range unitKeyNames(kind, defaults) {
		key := unitKeys[name]
		properties[name] = described(key.says, key.shape())
	}
	shape := tableShape(properties)
	switch {
	case defaults:
	case kind == plan.PageServer:
		shape.OneOf = oneOf("to", "root")
		shape.DependentRequired = map[string][]string{"fallback": {"root"}}
	case kind == plan.Task:
		manual := isFlag("may_serve", true)
		manual.Properties["start"] = &jsonschema.Schema{Const: new(any("manual"))}
		manual.Required = []string{"may_serve", "start"}
		shape.Not = manual
	}
	return shape
}

func described(says string, s *jsonschema.Schema) *jsonschema.Schema {
	s.Description = says
	return s
}

// tableShape is the shape of a table with only these keys.
func tableShape(properties map[string]*jsonschema.Schema) *jsonschema.Schema {
	return &jsonschema.Schema{
		Type: "object", Properties: properties, PropertyOrder: slices.Sorted(maps.Keys(properties)),
		AdditionalProperties: &jsonschema.Schema{Not: &jsonschema.Schema{}},
	}
}

// named is the shape of a table of tables with names chosen by the user.
func named(each *jsonschema.Schema) *jsonschema.Schema {
	return &jsonschema.Schema{Type: "object", AdditionalProperties: each}
}

func textShape() *jsonschema.Schema { return &jsonschema.Schema{Type: "string"} }
func flagShape() *jsonschema.Schema { return &jsonschema.Schema{Type: "boolean"} }

// textLike is the shape of a text that matches an expression.
func textLike(expression string) *jsonschema.Schema {
	return &jsonschema.Schema{Type: "string", Pattern: expression}
}

func listOf(item *jsonschema.Schema) *jsonschema.Schema {
	return &jsonschema.Schema{Type: "array", Items: item}
}

func textsShape() *jsonschema.Schema { return listOf(textShape()) }
func filesShape() *jsonschema.Schema { return listOf(textLike(".")) }
func nameShape() *jsonschema.Schema  { return textLike(unitNames.String()) }
func namesShape() *jsonschema.Schema { return listOf(nameShape()) }

// patternShape is the shape of a pattern of files: it is relative.
func patternShape() *jsonschema.Schema  { return textLike("^[^/]") }
func patternsShape() *jsonschema.Schema { return listOf(patternShape()) }

// expressionShape is the shape of a regular expression.
func expressionShape() *jsonschema.Schema {
	return &jsonschema.Schema{Type: "string", MinLength: new(1), Format: "regex"}
}

// quantityShape is the shape of a number with one of some units.
func quantityShape(units string) *jsonschema.Schema {
	return textLike(`^[0-9]+(\.[0-9]+)? ?(` + units + `)$`)
}

// commandShape is the shape of a command: a line for the shell, or a list of words.
func commandShape() *jsonschema.Schema {
	words := textsShape()
	words.MinItems, words.PrefixItems = new(1), []*jsonschema.Schema{textLike(".")}
	return &jsonschema.Schema{AnyOf: []*jsonschema.Schema{textLike(`\S`), words}}
}

// durationShape is the shape of a duration in the form of Go's package time.
func durationShape() *jsonschema.Schema {
	return textLike(`^\+?(0|(([0-9]+(\.[0-9]*)?|\.[0-9]+)(ns|us|µs|μs|ms|s|m|h))+)$`)
}

// pollShape is the shape of a duration that is long enough for polling.
func pollShape() *jsonschema.Schema {
	shape := durationShape()
	shape.Not = textLike(`^\+?([0-9]{1,2}(\.[0-9]*)?ms|[0-9]{1,5}(us|µs|μs)|[0-9]{1,8}ns)$`)
	return shape
}

// portShape is the shape of a port: a number, or a text with a variable.
func portShape() *jsonschema.Schema {
	number := &jsonschema.Schema{Type: "integer", Minimum: new(float64(1)), Maximum: new(float64(65535))}
	return &jsonschema.Schema{AnyOf: []*jsonschema.Schema{number, textLike(`\$`)}}
}

func choiceShape(choices ...string) *jsonschema.Schema {
	s := &jsonschema.Schema{Type: "string"}
	for _, c := range choices {
		s.Enum = append(s.Enum, c)
	}
	return s
}

func stepsShape(keys ...string) func() *jsonschema.Schema {
	return func() *jsonschema.Schema {
		properties := map[string]*jsonschema.Schema{}
		for _, key := range keys {
			properties[key] = patternsShape()
		}
		properties["run"] = commandShape()
		if properties["dir"] != nil {
			properties["dir"] = textShape()
		}
		step := tableShape(properties)
		step.Required = []string{"run"}
		return listOf(&jsonschema.Schema{AnyOf: append(commandShape().AnyOf, step)})
	}
}

func envShape() *jsonschema.Schema {
	return &jsonschema.Schema{
		Type:                 "object",
		AdditionalProperties: &jsonschema.Schema{Types: []string{"string", "number"}},
	}
}

func stopShape() *jsonschema.Schema {
	shape := tableShape(
		map[string]*jsonschema.Schema{
			"signal": choiceShape(signals...),
			"run":    commandShape(),
			"type":   textShape(),
			"grace":  durationShape(),
		},
	)
	shape.Not = &jsonschema.Schema{Required: []string{"run", "type"}}
	return shape
}

func endpointShape() *jsonschema.Schema {
	return tableShape(
		map[string]*jsonschema.Schema{"port": portShape(), "label": textShape(), "when_up": choiceShape(whenUp...)},
	)
}

// listenShape is the shape of an address to listen on: a port, or an address with one, or a text with a variable.
func listenShape() *jsonschema.Schema {
	return textLike(`^[0-9]{1,5}$|^(localhost|[0-9]{1,3}(\.[0-9]{1,3}){3}|\[[0-9A-Fa-f:.%]+\]):[0-9]{1,5}$|\$`)
}

func readyShape() *jsonschema.Schema {
	shape := tableShape(map[string]*jsonschema.Schema{
		"port":     described("The port accepts connections.", portShape()),
		"http":     described("A GET of this URL returns 2xx or 3xx.", textLike(`^https?://[^/]|\$`)),
		"line":     described("A line of the output matches this regular expression.", expressionShape()),
		"file":     described("The file exists and is newer than the start.", textShape()),
		"run":      described("The command exits with status 0.", commandShape()),
		"after":    described("The duration has passed.", durationShape()),
		"within":   described("The timeout, after which the unit has failed.", durationShape()),
		"insecure": described("Accepts any certificate of an https URL.", flagShape()),
	})
	shape.OneOf = oneOf("port", "http", "line", "file", "run", "after")
	shape.AnyOf = []*jsonschema.Schema{
		{Not: required("insecure")}, isFlag("insecure", false),
		{Required: []string{"http"}, Properties: map[string]*jsonschema.Schema{"http": textLike(`^https:|^[^:]*\$`)}},
	}
	return shape
}

func passShape() *jsonschema.Schema {
	lines := tableShape(
		map[string]*jsonschema.Schema{
			"working": expressionShape(),
			"good":    expressionShape(),
			"bad":     expressionShape(),
			"within":  durationShape(),
		},
	)
	lines.DependentRequired = map[string][]string{"working": {"good"}, "bad": {"good"}}
	return &jsonschema.Schema{AnyOf: []*jsonschema.Schema{choiceShape("auto"), lines}}
}

func reactionsShape() *jsonschema.Schema {
	one := tableShape(map[string]*jsonschema.Schema{
		"when": described("A pattern; {name} matches one path element, {name...} any number.", patternShape()),
		"run":  described("Runs instead of the unit's command.", commandShape()),
		"do": textLike(
			`^(restart|rerun|nothing|refresh-page|swap-style|signal:(` + strings.Join(signals, "|") + `))$`,
		),
	})
	one.Required, one.OneOf = []string{"when"}, oneOf("run", "do")
	return listOf(one)
}

func sizeShape() *jsonschema.Schema { return quantityShape("kB|MB|GB|TB") }

func limitsShape() *jsonschema.Schema {
	return tableShape(map[string]*jsonschema.Schema{
		"size": described("A size, such as \"500 MB\".", sizeShape()),
		"age":  described("An age, such as \"14 days\".", quantityShape("hours?|days?|weeks?")),
	})
}
