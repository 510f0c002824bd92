package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestDocumentedExamples runs the examples of docs/api.md, and requires each answer to have
// the fields that the document shows.
func TestDocumentedExamples(t *testing.T) {
	t.Parallel()
	document, err := os.ReadFile("../docs/api.md")
	require.NoError(t, err)
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "berths.go"), nil, 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "rates.json"), nil, 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "fares.csv"), []byte("low\n"), 0o600))
	b := inBackground(t, dir, `
[project]
name = "saltmarsh"
[service.tides]
run = "echo low water; echo high water; exec sleep 1000"
[service.berths]
run = "cat rates.json; exec sleep 1000"
observe = true
[task.fares]
run = "true"
watch = ["fares.csv"]
[suite.pier]
run = "echo berths.go:8:5: warning: spare; echo ok 1 - high tide; echo not ok 2 - low tide; echo 1..2"
start = "manual"
[group.harbour]
units = ["tides", "berths"]
`)
	out, code := b.run("wait")
	require.Equal(t, 0, code, out)
	// Before the second save, the contents are certainly known.
	for _, text := range []string{"low tide at 4\n", "high tide at 4\n"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "fares.csv"), []byte(text), 0o600))
		out, code = b.run("wait")
		require.Equal(t, 0, code, out)
	}
	b.run("run", "pier")
	_, code = b.run("wait", "pier")
	require.Equal(t, 1, code)
	require.True(t, holds(patience, func() bool { _, code := b.run("history", "pier"); return code == 0 }))
	socket, code := b.run("status", "--socket")
	require.Equal(t, 0, code)
	examples := regexp.MustCompile("(?s)```sh\n(.*?)```\n```(json|text)\n(.*?)```").FindAllSubmatch(document, -1)
	require.GreaterOrEqual(t, len(examples), 10)
	for _, e := range examples {
		command, kind, shown := string(e[1]), string(e[2]), string(e[3])
		cmd := exec.Command("bash", "-ec", command)
		cmd.Env = append(os.Environ(), "SOCKET="+strings.TrimSpace(socket))
		answer, err := cmd.Output()
		require.NoError(t, err, command)
		if kind == "text" {
			for _, line := range strings.Split(strings.TrimSpace(shown), "\n") {
				line = regexp.MustCompile(`\d{8}-\d{6}\.\d{3}\.\d+`).ReplaceAllString(line, "\x00")
				pattern := strings.ReplaceAll(regexp.QuoteMeta(line), "\x00", `\d{8}-\d{6}\.\d{3}\.\d+`)
				pattern = regexp.MustCompile(`"number":\d+`).ReplaceAllString(pattern, `"number":\d+`)
				require.Regexp(t, pattern, string(answer), command)
			}
			continue
		}
		var want, got any
		require.NoError(t, json.Unmarshal([]byte(shown), &want), shown)
		first, _, _ := bytes.Cut(answer, []byte("\n"))
		require.NoError(t, json.Unmarshal(first, &got), "%s: %s", command, answer)
		requireShape(t, want, got, command)
	}
}

// requireShape requires all fields shown in the document, with values of their kind. If a list is shown with an
// element, some element must be like it.
func requireShape(t *testing.T, want, got any, where string) {
	t.Helper()
	require.IsType(t, want, got, where)
	switch want := want.(type) {
	case map[string]any:
		for name, value := range want {
			has, there := got.(map[string]any)[name]
			require.True(t, there, "%s: there is no %s in %v", where, name, got)
			requireShape(t, value, has, where+" "+name)
		}
	case []any:
		if len(want) > 0 {
			require.NotEmpty(t, got, where)
			requireShape(t, want[0], got.([]any)[0], fmt.Sprint(where, "[0]"))
		}
	}
}
