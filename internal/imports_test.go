// Package internal holds the test that keeps the house in order.
package internal

import (
	"go/ast"
	"go/parser"
	"go/token"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// allowed says which of the project's packages each package may import. The
// direction is that of the data: plan, watch, engine, processes, log, session,
// faces.
var allowed = map[string]string{
	"api":        "phrase regular",
	"ask":        "api draw exit export home lines outcomes phrase plain plan query samples terminal timeline visible",
	"browse":     "",
	"capture":    "",
	"cli":        "api ask concern demo draft exit export guard heap home mask mcp nearest phrase plain plan recording regular simulate spawn supervise trust tui typed visible watch",
	"concern":    "api capture engine phrase plan rehearse watch",
	"demo":       "",
	"draft":      "phrase plan visible watch",
	"engine":     "phrase plan",
	"exit":       "",
	"export":     "api plain visible",
	"places":     "",
	"traces":     "",
	"guard":      "spawn",
	"heap":       "",
	"home":       "api",
	"logbook":    "regular visible",
	"mask":       "",
	"passes":     "plan",
	"phrase":     "",
	"plain":      "api phrase visible",
	"mcp":        "api phrase visible",
	"nearest":    "",
	"plan":       "capture nearest phrase regular shellwords visible",
	"ready":      "plan",
	"recording":  "engine plan",
	"outcomes":   "api results",
	"results":    "phrase plan regular shellwords",
	"shellwords": "",
	"reuse":      "plan regular watch",
	"regular":    "",
	"rehearse":   "engine plan",
	"relay":      "hues",
	"lines":      "api logbook query structured traces",
	"query":      "",
	"session":    "api browse concern engine lines logbook mask outcomes passes phrase plan ready recording relay results reuse samples setup spawn terminal trust usage visible watch",
	"setup":      "plan regular watch",
	"simulate":   "engine plan rehearse",
	"spawn":      "nearest",
	"structured": "query",
	"supervise":  "api concern demo engine exit guard heap home logbook plan session trust",
	"trust":      "phrase plan",
	"typed":      "plan",
	"terminal":   "api visible",
	"timeline":   "api phrase",
	"draw":       "api hues phrase timeline",
	"hues":       "",
	"tui":        "api browse draw export hues phrase places query shellwords structured terminal timeline traces visible",
	"samples":    "",
	"usage":      "samples spawn",
	"visible":    "",
	"watch":      "capture phrase regular",
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

// TestEngineIsPure holds the engine to plan, phrase and the standard library, without
// clocks, goroutines, files and processes.
func TestEngineIsPure(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", `{{join .Imports " "}}`, "./engine").Output()
	require.NoError(t, err)
	for _, imported := range strings.Fields(string(out)) {
		if imported == "omnivigil/internal/plan" || imported == "omnivigil/internal/phrase" {
			continue
		}
		require.NotContains(t, imported, ".", "a library: %s", imported)
		require.NotContains(t, []string{"os", "os/exec", "sync", "context", "net", "io", "math/rand"}, imported)
	}
	files, err := filepath.Glob("engine/*.go")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, file := range files {
		if strings.HasSuffix(file, "_test.go") {
			continue
		}
		source, err := parser.ParseFile(token.NewFileSet(), file, nil, 0)
		require.NoError(t, err)
		ast.Inspect(source, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.GoStmt, *ast.SelectStmt, *ast.SendStmt:
				t.Errorf("%s: %T: the engine has no goroutines", file, n)
			case *ast.SelectorExpr:
				if of, ok := n.X.(*ast.Ident); ok && of.Name == "time" {
					require.NotContains(t, []string{"Now", "Since", "Until", "After", "AfterFunc", "Sleep", "Tick", "NewTimer", "NewTicker"}, n.Sel.Name, file)
				}
			}
			return true
		})
	}
}
