// Package internal holds the test that keeps the house in order.
package internal

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// allowed says which of the project's packages each package may import. The
// direction is that of the data: plan, watch, engine, processes, log, session,
// faces.
var allowed = map[string]string{
	"cli":       "concern demo engine guard plain plan recording session simulate spawn trust tui",
	"concern":   "engine plan simulate watch",
	"demo":      "",
	"engine":    "plan",
	"guard":     "spawn",
	"logbook":   "",
	"mask":      "",
	"plain":     "logbook",
	"plan":      "",
	"recording": "engine plan",
	"session":   "concern engine logbook mask plan recording spawn watch",
	"simulate":  "engine plan",
	"spawn":     "",
	"trust":     "plan",
	"tui":       "concern engine logbook session",
	"watch":     "",
}

func TestImportDirection(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", `{{.ImportPath}} {{join .Imports " "}}`, "./...").Output()
	require.NoError(t, err)
	for _, line := range strings.Split(strings.TrimSpace(string(out)), "\n") {
		words := strings.Fields(line)
		name, ok := strings.CutPrefix(words[0], "omnivigil/internal/")
		if !ok {
			continue
		}
		may, known := allowed[name]
		require.True(t, known, "package %s is not in the list of allowed imports", name)
		for _, imported := range words[1:] {
			if own, ok := strings.CutPrefix(imported, "omnivigil/internal/"); ok {
				require.Contains(t, strings.Fields(may), own, "%s must not import %s", name, own)
			}
		}
	}
}

// TestEngineIsPure holds the engine to plan and the standard library, without
// clocks, goroutines, files and processes.
func TestEngineIsPure(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", `{{join .Imports " "}}`, "./engine").Output()
	require.NoError(t, err)
	for _, imported := range strings.Fields(string(out)) {
		if imported == "omnivigil/internal/plan" {
			continue
		}
		require.NotContains(t, imported, ".", "a library: %s", imported)
		require.NotContains(t, []string{"os", "os/exec", "sync", "context", "net", "io", "math/rand"}, imported)
	}
	found, _ := exec.Command("grep", "-nE", `time\.(Now|Since|Until|After|Sleep|Tick)\(|go func`, "-r", "engine").Output()
	require.Empty(t, string(found))
}
