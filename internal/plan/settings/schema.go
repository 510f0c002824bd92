package settings

import (
	"maps"
	"slices"

	"github.com/google/jsonschema-go/jsonschema"

	"omnivigil/internal/plan"
)

// Schema returns the JSON Schema (draft 2020-12) of settings files, for editors that complete and check them. It
// comes from the table of keys that files are read by.
func Schema() *jsonschema.Schema {
	root := tableShape(map[string]*jsonschema.Schema{
		"project": described("What concerns the whole project.", tableShape(map[string]*jsonschema.Schema{
			"name":      described("What the project is called. Default: its directory's name.", textShape()),
			"env_files": described("Files of variables; the first that has a name wins.", textsShape()),
			"secret": described(
				"Names of variables whose values are hidden everywhere, such as \"*_TOKEN\".",
				textsShape(),
			),
			"jobs": described(
				"How many tasks, suites and setup steps may run at once.",
				&jsonschema.Schema{Type: "integer", Minimum: new(float64(1))},
			),
			"on_verdict": described(
				"Run when the verdict turns broken or stale for good, and when it is whole again; OMNIVIGIL_VERDICT "+
					"has it.",
				commandShape(),
			),
			"logs": described(
				"What the logs of all sessions may take, oldest gone first.",
				tableShape(map[string]*jsonschema.Schema{
					"size": described("Such as \"2 GB\".", textShape()),
					"age":  described("Such as \"14 days\".", textShape()),
				}),
			),
		})),
		"defaults": described("Keys that all units have, where they do not say otherwise.", unitShape(0, true)),
		"group": described(
			"Names for several units.",
			named(tableShape(map[string]*jsonschema.Schema{"units": textsShape()})),
		),
	})
	for kind, says := range map[plan.Kind]string{
		plan.Service: "Units that should keep running.", plan.Task: "Units that run and end.",
		plan.Suite:      "Units that run and end with test results.",
		plan.PageServer: "Servers of pages that refresh by themselves.",
	} {
		root.Properties[kind.String()] = described(says, named(unitShape(kind, false)))
	}
	root.Schema, root.Title = "https://json-schema.org/draft/2020-12/schema", plan.FileName
	return root
}

// unitShape is the shape of the table of a unit of a kind, or of [defaults].
func unitShape(kind plan.Kind, defaults bool) *jsonschema.Schema {
	properties := map[string]*jsonschema.Schema{}
	for _, name := range unitKeyNames(kind, defaults) {
		key := unitKeys[name]
		properties[name] = described(key.says, key.shape())
	}
	return tableShape(properties)
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
func textsShape() *jsonschema.Schema {
	return &jsonschema.Schema{Type: "array", Items: textShape()}
}

// commandShape is the shape of a command: a line for the shell, or a list of words.
func commandShape() *jsonschema.Schema {
	return &jsonschema.Schema{AnyOf: []*jsonschema.Schema{textShape(), textsShape()}}
}

// durationShape is the shape of a duration in the form of Go's package time.
func durationShape() *jsonschema.Schema {
	return &jsonschema.Schema{Type: "string", Pattern: `^(0|([0-9]+(\.[0-9]*)?|\.[0-9]+)(ns|us|µs|ms|s|m|h))+$`}
}

// portShape is the shape of a port: a number, or a text with a variable.
func portShape() *jsonschema.Schema {
	number := &jsonschema.Schema{Type: "integer", Minimum: new(float64(1)), Maximum: new(float64(65535))}
	return &jsonschema.Schema{AnyOf: []*jsonschema.Schema{number, {Type: "string", Pattern: `\$`}}}
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
			properties[key] = textsShape()
		}
		properties["run"] = commandShape()
		step := tableShape(properties)
		step.Required = []string{"run"}
		return &jsonschema.Schema{
			Type:  "array",
			Items: &jsonschema.Schema{AnyOf: []*jsonschema.Schema{textShape(), textsShape(), step}},
		}
	}
}

func envShape() *jsonschema.Schema {
	return &jsonschema.Schema{
		Type:                 "object",
		AdditionalProperties: &jsonschema.Schema{Types: []string{"string", "integer"}},
	}
}

func stopShape() *jsonschema.Schema {
	return tableShape(
		map[string]*jsonschema.Schema{
			"signal": choiceShape(signals...),
			"run":    commandShape(),
			"type":   textShape(),
			"grace":  durationShape(),
		},
	)
}

func endpointShape() *jsonschema.Schema {
	return tableShape(
		map[string]*jsonschema.Schema{"port": portShape(), "label": textShape(), "when_up": choiceShape(whenUp...)},
	)
}

func readyShape() *jsonschema.Schema {
	return tableShape(map[string]*jsonschema.Schema{
		"port":     described("A port that accepts connections.", portShape()),
		"http":     described("An address that answers with 2xx or 3xx.", textShape()),
		"line":     described("A regular expression that a line of the output matches.", textShape()),
		"file":     described("A file that exists and is newer than the start.", textShape()),
		"run":      described("A command that exits 0.", commandShape()),
		"after":    described("So long after the start.", durationShape()),
		"within":   described("Past it the unit has failed.", durationShape()),
		"insecure": described("Accepts any certificate of an https address.", flagShape()),
	})
}

func passShape() *jsonschema.Schema {
	said := tableShape(
		map[string]*jsonschema.Schema{
			"working": textShape(),
			"good":    textShape(),
			"bad":     textShape(),
			"within":  durationShape(),
		},
	)
	return &jsonschema.Schema{AnyOf: []*jsonschema.Schema{choiceShape("auto"), said}}
}

func reactionsShape() *jsonschema.Schema {
	one := tableShape(map[string]*jsonschema.Schema{
		"when": described("A pattern; {name} takes one path element, {name...} any number.", textShape()),
		"run":  described("What runs instead of the unit's command.", commandShape()),
		"do": &jsonschema.Schema{
			Type:    "string",
			Pattern: `^(restart|rerun|nothing|refresh-page|swap-style|signal:[A-Z0-9]+)$`,
		},
	})
	one.Required = []string{"when"}
	return &jsonschema.Schema{Type: "array", Items: one}
}
