package settings

import (
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/google/jsonschema-go/jsonschema"
	"github.com/pelletier/go-toml/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/plan"
	"omnivigil/internal/plan/preferences"
)

// against validates settings against the schema.
func against(t *testing.T, schema *jsonschema.Resolved, text []byte) error {
	t.Helper()
	var settings map[string]any
	require.NoError(t, toml.Unmarshal(text, &settings))
	return schema.Validate(settings)
}

var tomlBlock = regexp.MustCompile("(?s)```toml\n(.*?)```")

// TestSchemaFits validates all settings files of the project against the schema.
func TestSchemaFits(t *testing.T) {
	schema, err := Schema().Resolve(nil)
	require.NoError(t, err)
	files, err := filepath.Glob("../../../examples/*/omnivigil.toml")
	require.NoError(t, err)
	for _, file := range append(files, "../../../omnivigil.toml") {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.NoError(t, against(t, schema, text), file)
	}
	for _, doc := range []string{"../../../docs/settings.md", "../../../README.md"} {
		text, err := os.ReadFile(doc)
		require.NoError(t, err)
		blocks := tomlBlock.FindAllSubmatch(text, -1)
		require.NotEmpty(t, blocks, doc)
		for _, block := range blocks {
			if !regexp.MustCompile(`(?m)^\[`).Match(block[1]) {
				continue // a part of a table
			}
			if strings.Contains(string(block[1]), "[keys]") { // a user's own file
				file := filepath.Join(t.TempDir(), "config.toml")
				require.NoError(t, os.WriteFile(file, block[1], 0o600))
				own, err := preferences.Read(file, []string{"restart"})
				assert.NoError(t, err)
				assert.Equal(t, []string{"r", "f5"}, own.Keys["restart"])
				assert.Equal(
					t,
					[]string{"go", "test", "-run", "A", "B", "./..."},
					own.Shortcuts["gt"].With([]string{"A", "B"}),
				)
				assert.Equal(t, []string{"go", "test", "-run", "", "./..."}, own.Shortcuts["gt"].With(nil))
				continue
			}
			if !regexp.MustCompile(`(?m)^\[(service|task|suite|relay)\.`).Match(block[1]) { // a part of a file
				block[1] = append(block[1], "\n[service.web]\nrun = \"a\"\n"...)
			}
			assert.NoError(t, against(t, schema, block[1]), "%s: %s", doc, block[1])
		}
	}
}

// TestSchemaRejects has both the reader and the schema reject wrong settings. What follows is in a service with a
// command, unless it begins with a table.
func TestSchemaRejects(t *testing.T) {
	schema, err := Schema().Resolve(nil)
	require.NoError(t, err)
	for _, text := range []string{
		// the file
		"# nothing", "[project]\nname = \"a\"", "[servise.web]\nrun = \"a\"", "[service]", "[project]\njobs = 0",
		"[project]\njobs = \"two\"", "[project]\nlogs = { size = \"2 G\" }", "[project]\nlogs = { age = \"9 years\" }",
		"[project]\non_verdict = \"\"", "[project]\nsecret = \"*_TOKEN\"",
		"[project]\nshare = { write = true }", "[project]\nshare = { url = \"cache\" }",
		"[project]\nshare = \"https://a/\"",
		"[project]\nshare = { url = \"https://u:p@a/\" }", "[project]\nshare = { url = \"https://a/?b\" }",
		"[project]\nshare = { url = \"ftp://a/\" }", "[project]\nshare = { url = \"https:///b\" }",
		// units
		"[service.web]\ndir = \".\"", "[service.\"a b\"]\nrun = \"a\"", "[service.omnivigil]\nrun = \"a\"",
		"run = \"\"",
		"run = []", "run = [\"\", \"x\"]", "run = 3", "wach = []", "watch = \"*.go\"", "watch = [\"/etc/hosts\"]",
		"watch = [\"\"]", "needs = [\"\"]", "env = { A = true }", "debounce = \"soon\"", "debounce = 150",
		"debounce = \"-1s\"", "poll = \"10ms\"", "start = \"later\"", "setup = [{ inputs = [\"a\"] }]",
		"setup = [{ run = \"a\", dir = 1 }]",
		"setup = [\"\"]", "prelude = [{ run = \"a\", inputs = [\"a\"] }]", "stop = { signal = \"NONE\" }",
		"stop = { run = \"a\", type = \"q\" }", "endpoint = { port = 70000 }", "endpoint = { port = \"http\" }",
		"findings = \"some\"", "findings = \"sarif:\"", "findings = {}", "findings = { pattern = \"(?P<file>a)\" }",
		"findings_fail = \"note\"",
		// services
		"ready = {}", "ready = { port = 1, after = \"1s\" }", "ready = { line = \"\" }",
		"ready = { http = \"localhost:4102\" }", "ready = { http = \"http://a/\", insecure = true }",
		"ready = { within = \"5s\" }", "pass = \"maybe\"", "pass = { bad = \"error\" }", "after_exit = \"stop\"",
		"reuse = true", "overlap = \"finish\"",
		// tasks and suites
		"[task.a]\nrun = \"a\"\nready = { port = 1 }", "[task.a]\nrun = \"a\"\noverlap = \"never\"",
		"[task.a]\nrun = \"a\"\nreuse = true", "[task.a]\nrun = \"a\"\nmay_serve = true\nstart = \"manual\"",
		"[suite.a]\nrun = \"a\"\nresults = \"xunit\"", "[suite.a]\nrun = \"a\"\nresults = \"junit\"",
		"[suite.a]\nrun = \"a\"\nnarrow = \"-run\"", "[suite.a]\nrun = \"a\"\nnarrow = { join = \"|\" }",
		// reactions and relays
		"reaction = [{ when = \"a\" }]", "reaction = [{ do = \"restart\" }]",
		"reaction = [{ when = \"/a\", do = \"rerun\" }]",
		"reaction = [{ when = \"a\", run = \"a\", do = \"restart\" }]",
		"reaction = [{ when = \"a\", do = \"signal:NONE\" }]",
		"[relay.a]\nlisten = \"4170\"", "[relay.a]\nroot = \"a\"",
		"[relay.a]\nlisten = \"4170\"\nroot = \"a\"\nto = \"b\"",
		"[relay.a]\nlisten = \"here\"\nroot = \"a\"",
		"[relay.a]\nlisten = \"4170\"\nroot = \"a\"\nat = { api = \"b\" }",
		"[service.b]\nrun = \"b\"\n[relay.a]\nlisten = \"4170\"\nto = \"b\"\nfallback = \"a\"",
		"[relay.a]\nlisten = \"4170\"\nroot = \"a\"\nrun = \"a\"",
	} {
		if !strings.HasPrefix(text, "[") && !strings.HasPrefix(text, "#") {
			run := "run = \"a\"\n"
			if strings.HasPrefix(text, "run") {
				run = ""
			}
			text = "[service.web]\n" + run + text
		}
		_, err := parsePlan(plan.FileName, filepath.Join(t.TempDir(), plan.FileName), "", []byte(text))
		assert.Error(t, err, "the reader takes %s", text)
		assert.Error(t, against(t, schema, []byte(text)), "the schema takes %s", text)
	}
}

// TestSchemaKnowsAllKeys compares the keys of each table in the schema with those of the reader.
func TestSchemaKnowsAllKeys(t *testing.T) {
	schema := Schema()
	unit := func(kind, key string) *jsonschema.Schema {
		return schema.Properties[kind].AdditionalProperties.Properties[key]
	}
	for text, shape := range map[string]*jsonschema.Schema{
		"zzzzzz = 1":                       schema,
		"[project]\nzzzzzz = 1":            schema.Properties["project"],
		"[project]\nlogs = { zzzzzz = 1 }": schema.Properties["project"].Properties["logs"],
		"[project]\nshare = { url = \"https://a/\", zzzzzz = 1 }": schema.Properties["project"].Properties["share"],
		"[defaults]\nzzzzzz = 1":                                  schema.Properties["defaults"],
		"[group.a]\nzzzzzz = 1":                                   schema.Properties["group"].AdditionalProperties,
		"[service.a]\nzzzzzz = 1":                                 schema.Properties["service"].AdditionalProperties,
		"[task.a]\nzzzzzz = 1":                                    schema.Properties["task"].AdditionalProperties,
		"[suite.a]\nzzzzzz = 1":                                   schema.Properties["suite"].AdditionalProperties,
		"[service.a]\nstop = { zzzzzz = 1 }":                      unit("service", "stop"),
		"[service.a]\nready = { zzzzzz = 1 }":                     unit("service", "ready"),
		"[service.a]\nendpoint = { zzzzzz = 1 }":                  unit("service", "endpoint"),
		"[service.a]\npass = { zzzzzz = 1 }":                      unit("service", "pass").AnyOf[1],
		"[[service.a.reaction]]\nzzzzzz = 1":                      unit("service", "reaction").Items,
		"[service.a]\nsetup = [ { zzzzzz = 1 } ]":                 unit("service", "setup").Items.AnyOf[2],
		"[service.a]\nprelude = [ { zzzzzz = 1 } ]":               unit("service", "prelude").Items.AnyOf[2],
	} {
		_, err := parsePlan(plan.FileName, filepath.Join(t.TempDir(), plan.FileName), "", []byte(text))
		require.Error(t, err, text)
		_, known, ok := strings.Cut(err.Error(), "known here: ")
		require.True(t, ok, err.Error())
		known, _, _ = strings.Cut(known, "\n")
		want := slices.Sorted(slices.Values(strings.Split(known, ", ")))
		assert.Equal(t, want, slices.Sorted(maps.Keys(shape.Properties)), text)
	}
}
