// Package internal holds the test that keeps the house in order.
package internal

import (
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// floors are the directories below this one, from the top down: no import points up. A directory that is missing here
// has no place in the house.
var floors = []string{
	"face",
	"supervisor",
	"session",
	"store",
	"relay",
	"draft",
	"engine",
	"watch",
	"results",
	"trend",
	"process",
	"output",
	"plan",
	"api",
	"text",
	"files",
	"heap",
	"pace",
	"demo",
}

// allowed are the packages of the project that each may import, because the floors leave it open within one floor,
// and so that a new arrow is a decision.
var allowed = map[string]string{
	"api":                    "api/changes api/past api/report api/seconds text/format text/location",
	"api/bridge":             "",
	"api/changes":            "text/diff",
	"api/client":             "api api/bridge api/changes api/past api/socket",
	"api/exit":               "",
	"api/otlp":               "api",
	"api/past":               "api/seconds",
	"api/report":             "",
	"api/seconds":            "",
	"api/server":             "api api/changes api/past",
	"api/socket":             "files",
	"api/yield":              "",
	"demo":                   "",
	"draft":                  "draft/node draft/project plan plan/document text/escape text/format text/lazyregexp",
	"draft/node":             "draft/project plan text/format text/lazyregexp",
	"draft/project":          "plan text/escape text/lazyregexp watch/pattern",
	"engine":                 "api/report plan",
	"engine/dryrun":          "engine plan",
	"engine/explain":         "engine plan text/format",
	"engine/recording":       "engine engine/explain plan",
	"engine/simulate":        "api/report engine engine/dryrun engine/explain engine/simulate/disk plan",
	"engine/simulate/disk":   "plan",
	"engine/simulate/random": "engine engine/explain engine/simulate plan",
	"face/card":              "api api/changes text/diff text/escape text/format",
	"face/cli": "api api/bridge api/client api/exit api/socket demo draft engine/recording face/cli/ask " +
		"face/cli/location face/cli/manual face/cli/personal face/cli/preview face/cli/share face/cli/show " +
		"face/cli/store face/cli/summary face/cli/why face/client face/client/exporting face/client/history " +
		"face/client/projects face/export face/lsp face/mcp face/plain face/remote face/tui/view files " +
		"output/redact plan plan/adhoc plan/document plan/edit plan/settings session/impact session/observation " +
		"store/consent store/history store/history/madeup store/observed store/paths supervisor " +
		"supervisor/guard text/escape text/format text/suggest watch/pattern watch/repository",
	"face/cli/ask": "api/exit face/cli/preview plan process store/consent store/paths text/escape text/format",
	"face/cli/location": "api/exit face/cli/personal face/remote plan plan/document plan/settings store/members " +
		"store/paths text/format",
	"face/cli/manual": "api/exit text/suggest",
	"face/cli/personal": "api/exit face/tui files plan/adhoc plan/document plan/edit plan/preferences " +
		"store/paths",
	"face/cli/preview": "output/redact plan session/impact store/consent text/escape text/format text/lazyregexp",
	"face/cli/share":   "api/exit face/client plan store/share supervisor text/format text/lazyregexp",
	"face/cli/show": "api api/client api/exit api/socket api/yield face/cli/ask face/cli/personal face/cli/summary " +
		"face/client face/client/projects face/plain face/tui face/tui/view heap store/paths supervisor " +
		"supervisor/guard text/escape",
	"face/cli/store":   "api/exit face/client store/contents supervisor text/format",
	"face/cli/summary": "api text/escape text/format",
	"face/cli/why":     "api api/exit face/card face/client",
	"face/client": "api api/changes api/client api/exit api/socket face/card face/lookback face/plain " +
		"face/remote face/timeline output/query output/reader output/terminal plan/settings session/ended " +
		"session/history session/outcomes session/run store/contents store/paths text/diff text/escape " +
		"text/format text/suggest",
	"face/client/exporting": "api api/client api/exit api/otlp api/past api/socket face/client face/draw " +
		"face/export face/timeline output/query plan/settings store/history/reader store/paths text/format " +
		"text/suggest",
	"face/client/history": "api/exit api/past face/client face/lookback store/history/reader store/paths " +
		"text/format text/suggest",
	"face/client/projects": "api api/client api/socket face/client store/paths text/format",
	"face/draw":            "api face/timeline text/format text/theme",
	"face/export":          "api face/plain results/sarif text/escape text/pen",
	"face/lookback":        "api api/past text/format",
	"face/lsp":             "api face/card files text/escape text/location",
	"face/mcp":             "api api/changes api/past face/card face/lookback text/escape text/format text/suggest",
	"face/plain":           "api text/escape text/format",
	"face/remote":          "api/bridge text/escape text/format",
	"face/timeline":        "api api/past text/format",
	"face/tui": "api api/yield face/timeline face/tui/arguments face/tui/cells face/tui/charts face/tui/display " +
		"face/tui/lanes face/tui/mapview face/tui/overview face/tui/panels face/tui/results face/tui/ripples " +
		"face/tui/typing face/tui/unitview face/tui/view output/query text/escape text/format text/suggest",
	"face/tui/arguments": "api face/tui/overview face/tui/view text/format text/shellwords",
	"face/tui/cells":     "api face/timeline text/theme",
	"face/tui/charts": "api/past face/draw face/timeline face/tui/cells face/tui/lanes face/tui/overview " +
		"face/tui/view text/format",
	"face/tui/display": "",
	"face/tui/lanes":   "api face/draw face/timeline face/tui/cells face/tui/view text/format",
	"face/tui/mapview": "api face/draw face/timeline face/tui/cells face/tui/lanes face/tui/view",
	"face/tui/overview": "api face/draw face/export face/timeline face/tui/cells face/tui/lanes face/tui/stream " +
		"face/tui/view output/locate output/query output/stacktrace process/browser text/escape text/format",
	"face/tui/panels": "api face/card face/tui/cells face/tui/lanes face/tui/overview face/tui/view text/format",
	"face/tui/results": "api api/past face/export face/lookback face/timeline face/tui/arguments face/tui/cells " +
		"face/tui/lanes face/tui/stream face/tui/view output/query text/escape text/format",
	"face/tui/ripples": "api api/changes api/past face/card face/draw face/timeline face/tui/cells " +
		"face/tui/overview face/tui/panels face/tui/stream face/tui/view output/query text/escape text/format",
	"face/tui/stream": "api face/tui/cells face/tui/lanes face/tui/view output/query output/structured " +
		"text/escape text/format",
	"face/tui/typing": "api face/tui/cells face/tui/overview face/tui/view output/terminal",
	"face/tui/unitview": "api face/card face/timeline face/tui/cells face/tui/charts face/tui/lanes " +
		"face/tui/overview face/tui/panels face/tui/stream face/tui/view output/query text/format",
	"face/tui/view": "api api/past face/draw face/timeline face/tui/cells output/locate process/browser " +
		"text/format text/location",
	"files":          "",
	"heap":           "",
	"pace":           "",
	"output/lens":    "output/logbook output/query output/structured text/escape",
	"output/locate":  "text/escape text/lazyregexp text/location",
	"output/logbook": "files output/structured text/escape text/format text/lazyregexp text/pen",
	"output/query":   "",
	"output/reader": "api output/lens output/logbook output/query output/stacktrace output/structured " +
		"text/escape",
	"output/redact":          "text/escape",
	"output/stacktrace":      "text/lazyregexp",
	"output/structured":      "output/query text/lazyregexp",
	"output/terminal":        "api output/terminal/screen text/escape",
	"output/terminal/screen": "",
	"plan":                   "plan/capture text/format text/suggest",
	"plan/adhoc":             "plan/document text/lazyregexp",
	"plan/capture":           "text/lazyregexp",
	"plan/document":          "text/escape",
	"plan/edit":              "files plan plan/document plan/settings text/lazyregexp",
	"plan/preferences":       "files plan plan/document plan/values text/format text/suggest",
	"plan/settings": "files plan plan/capture plan/document plan/values plan/variables text/lazyregexp " +
		"text/shellwords text/suggest",
	"plan/values":      "plan plan/document text/lazyregexp text/suggest",
	"plan/variables":   "plan text/lazyregexp",
	"process":          "pace process/observe process/standby text/suggest",
	"process/browser":  "",
	"process/meter":    "process",
	"process/observe":  "",
	"process/probe":    "plan",
	"process/standby":  "",
	"relay":            "text/theme",
	"results":          "api plan text/lazyregexp text/location text/shellwords",
	"results/findings": "results results/source text/lazyregexp text/location",
	"results/passes":   "plan text/lazyregexp",
	"results/readers": "files plan results results/findings results/reason results/runners results/sarif " +
		"results/source text/lazyregexp text/location",
	"results/reason": "results results/source text/lazyregexp text/location",
	"results/record": "api api/report files results text/format text/location",
	"results/runners": "plan results results/reason results/runners/gotest results/source text/lazyregexp " +
		"text/location",
	"results/runners/gotest": "api results results/reason results/source text/lazyregexp text/location",
	"results/sarif":          "",
	"results/source":         "text/lazyregexp text/location",
	"session": "api api/changes api/past engine engine/explain engine/recording output/lens output/logbook " +
		"output/reader output/redact plan plan/edit plan/settings process process/browser " +
		"process/meter process/observe results session/account session/changes session/ended " +
		"session/explanation session/history session/impact session/observation session/outcomes " +
		"session/outputs session/pages session/quiet session/run session/sharing session/snapshot " +
		"session/survey session/terminals session/verdicts session/waited session/writers " +
		"store/consent store/contents store/history store/observed store/reuse store/setup " +
		"store/share text/escape text/format text/suggest watch watch/pattern",
	"session/account": "api",
	"session/changes": "api api/changes files output/redact plan store/contents store/history text/diff " +
		"text/escape",
	"session/ended": "api api/changes output/logbook output/reader session/changes session/history " +
		"session/outcomes store/contents store/history store/history/reader text/escape",
	"session/explanation": "api api/changes engine engine/explain plan results/source session/outcomes " +
		"text/format text/location",
	"session/history": "api api/past plan process/meter results session/outcomes store/history " +
		"store/history/database store/history/reader text/escape watch/repository",
	"session/impact": "api engine engine/dryrun engine/explain plan plan/capture text/format text/suggest watch " +
		"watch/pattern",
	"session/observation": "api engine plan plan/edit plan/settings process/observe session/impact " +
		"store/observed text/escape text/format watch watch/pattern",
	"session/outcomes": "api plan results results/record session/run text/format text/location",
	"session/outputs":  "api engine plan session/impact watch/pattern",
	"session/pages": "api engine engine/explain output/logbook plan process relay session/outputs session/run " +
		"text/escape text/format",
	"session/quiet": "",
	"session/run": "api api/otlp engine engine/explain output/logbook output/redact output/terminal plan " +
		"process process/observe process/probe results results/passes results/readers results/record " +
		"store/contents store/reuse store/setup store/share text/escape text/format",
	"session/sharing":        "output/logbook plan store/reuse store/share text/format",
	"session/snapshot":       "api engine engine/explain plan session/impact text/escape text/format",
	"session/survey":         "engine",
	"session/terminals":      "api engine output/logbook output/redact output/terminal plan session/run text/suggest",
	"session/verdicts":       "api engine engine/explain plan process session/run",
	"session/waited":         "api engine engine/explain output/logbook output/reader plan session/snapshot text/format",
	"session/writers":        "engine process session/run",
	"store/consent":          "files plan text/format",
	"store/contents":         "files",
	"store/history":          "api store/history/cases store/history/database text/format trend",
	"store/history/cases":    "",
	"store/history/database": "",
	"store/history/madeup":   "api api/report store/history",
	"store/history/reader": "api api/past api/seconds store/history store/history/cases store/history/database " +
		"trend",
	"store/members":  "files plan",
	"store/observed": "files plan process/observe store/reuse",
	"store/paths":    "api/socket",
	"store/reuse":    "files plan store/contents store/share store/tree text/lazyregexp watch/pattern watch/stamp",
	"store/setup":    "files plan watch/pattern",
	"store/share":    "files store/contents store/tree text/format",
	"store/tree":     "store/contents watch/pattern watch/stamp",
	"supervisor": "api api/exit api/server api/socket api/yield demo engine heap output/logbook plan plan/preferences " +
		"plan/settings session session/impact store/consent store/contents store/members store/paths " +
		"store/share supervisor/guard supervisor/tracing",
	"supervisor/guard":   "process",
	"supervisor/tracing": "api api/otlp text/format",
	"text/diff":          "",
	"text/escape":        "",
	"text/format":        "",
	"text/lazyregexp":    "",
	"text/location":      "",
	"text/pen":           "text/escape",
	"text/shellwords":    "",
	"text/suggest":       "",
	"text/theme":         "",
	"trend":              "",
	"watch": "files text/format text/suggest watch/ahead watch/kernel watch/listing watch/pattern watch/repository " +
		"watch/stamp",
	"watch/ahead":      "watch/kernel watch/listing watch/stamp",
	"watch/listing":    "watch/stamp",
	"watch/kernel":     "pace text/format",
	"watch/pattern":    "files plan/capture",
	"watch/repository": "files",
	"watch/stamp":      "",
}

func floorOf(pkg string) int {
	top, _, _ := strings.Cut(pkg, "/")
	return slices.Index(floors, top)
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
		require.GreaterOrEqual(t, floorOf(name), 0, "package %s is on no floor", name)
		for _, imported := range words[1:] {
			if own, ok := strings.CutPrefix(imported, "omnivigil/internal/"); ok {
				require.Contains(t, strings.Fields(may), own, "%s must not import %s", name, own)
				require.GreaterOrEqual(t, floorOf(own), floorOf(name), "%s points up to %s", name, own)
			}
		}
	}
}

// TestEngineIsPure restricts the engine to plan, report, format and the standard library, without clocks, goroutines,
// files and processes.
func TestEngineIsPure(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", `{{join .Imports " "}}`, "./engine").Output()
	require.NoError(t, err)
	for _, imported := range strings.Fields(string(out)) {
		if slices.Contains(
			[]string{"omnivigil/internal/plan", "omnivigil/internal/api/report", "omnivigil/internal/text/format"},
			imported,
		) {
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
					require.NotContains(
						t,
						[]string{
							"Now",
							"Since",
							"Until",
							"After",
							"AfterFunc",
							"Sleep",
							"Tick",
							"NewTimer",
							"NewTicker",
						},
						n.Sel.Name,
						file,
					)
				}
			}
			return true
		})
	}
}

// maxFields limits the fields of a type, so that a reader can keep it in mind.
const maxFields = 20

// manyFields are types that may have more: those of settings and of the contract with faces.
var manyFields = []string{"api.Fact", "api.Unit", "report.Counts", "plan.Unit"}

func TestStructsFitInAHead(t *testing.T) {
	var files []string
	for _, pattern := range []string{"*/*.go", "*/*/*.go", "*/*/*/*.go"} {
		found, err := filepath.Glob(pattern)
		require.NoError(t, err)
		files = append(files, found...)
	}
	for _, name := range files {
		if strings.HasSuffix(name, "_test.go") {
			continue
		}
		file, err := parser.ParseFile(token.NewFileSet(), name, nil, parser.SkipObjectResolution)
		require.NoError(t, err)
		ast.Inspect(file, func(n ast.Node) bool {
			spec, ok := n.(*ast.TypeSpec)
			if !ok {
				return true
			}
			if s, ok := spec.Type.(*ast.StructType); ok {
				if full := file.Name.Name + "." + spec.Name.Name; !slices.Contains(manyFields, full) {
					require.LessOrEqual(t, fieldsOf(s), maxFields, "%s in %s: split it into parts", full, name)
				}
			}
			return true
		})
	}
}

// fieldsOf counts the fields of a struct; an embedded one counts as one.
func fieldsOf(s *ast.StructType) int {
	n := 0
	for _, field := range s.Fields.List {
		n += max(len(field.Names), 1)
	}
	return n
}

// maxLines limits the lines of a package, so that a reader finds their way.
const maxLines = 2500

// large are packages that may have more: the decisions of the engine belong together.
var large = []string{"engine"}

func TestPackagesFitInAHead(t *testing.T) {
	for name := range allowed {
		files, err := filepath.Glob(filepath.Join(filepath.FromSlash(name), "*.go"))
		require.NoError(t, err)
		lines := 0
		for _, file := range files {
			if strings.HasSuffix(file, "_test.go") {
				continue
			}
			text, err := os.ReadFile(file)
			require.NoError(t, err)
			lines += strings.Count(string(text), "\n")
		}
		require.Positive(t, lines, "there is no package %s", name)
		if !slices.Contains(large, name) {
			require.LessOrEqual(t, lines, maxLines, "package %s has too many lines: divide it", name)
		}
	}
}
