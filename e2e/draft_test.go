package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/api"
)

// The projects of these tests are real ones. They are fetched by the tools of their ecosystems when the tests run, from
// where these are set up to fetch; without a tool or a network, a test says so and is skipped.

// manifests are the projects that are only drafted, by ecosystem: a shell command fetches all of them into directories.
var manifests = []struct {
	tool, fetch string
	names       []string
}{
	{"npm", `npm pack --silent "$@" >/dev/null
		for f in *.tgz; do mkdir "${f%.tgz}"; tar xzf "$f" -C "${f%.tgz}" --strip-components=1; rm "$f"; done`,
		[]string{"express@5.1.0", "fastify@5.3.0", "koa@3.0.0", "socket.io@4.8.1", "mocha@11.1.0", "rollup@4.40.0",
			"eslint@9.25.0", "rxjs@7.8.2", "axios@1.9.0", "commander@13.1.0", "http-server@14.1.1",
			"json-server@0.17.4", "ws@8.18.1", "debug@4.4.0", "chalk@5.4.1", "vite@6.3.0", "svelte@5.28.0",
			"tsup@8.4.0"}},
	{"go", `go mod download -json "$@" | sed -n 's/.*"Dir": "\(.*\)".*/\1/p' |
			while read -r dir; do cp -r "$dir" .; done
		chmod -R u+w .`,
		[]string{"github.com/gorilla/mux@v1.8.1", "github.com/spf13/cobra@v1.9.1", "github.com/rakyll/hey@v0.1.4",
			"golang.org/x/example/hello@v0.0.0-20250915201037-7f05d217867b", "github.com/gin-gonic/gin@v1.10.0",
			"github.com/mccutchen/go-httpbin/v2@v2.18.1", "github.com/pelletier/go-toml/v2@v2.2.4",
			"github.com/go-chi/chi/v5@v5.2.1"}},
	{"cargo", `mkdir -p all/src; touch all/src/lib.rs; cd all
		printf '[package]\nname = "all"\nversion = "0.1.0"\nedition = "2021"\n[dependencies]\n' >Cargo.toml
		for c in "$@"; do echo "${c%@*} = \"=${c#*@}\"" >>Cargo.toml; done
		cargo vendor -q v >/dev/null; for c in "$@"; do mv "v/${c%@*}" ..; done; cd ..; rm -r all`,
		[]string{"semver@1.0.26", "itoa@1.0.15", "fastrand@2.3.0", "tiny_http@0.12.0", "rand@0.8.5",
			"log@0.4.27", "serde@1.0.219"}},
	{"pip", `pip download -q --no-deps --no-binary :all: "$@" >/dev/null
		for f in *.tar.gz; do tar xzf "$f"; rm "$f"; done`,
		[]string{"flask==3.1.0", "click==8.1.8", "itsdangerous==2.2.0", "httpbin==0.10.2"}},
	{"mvn", `for p in "$@"; do
			mvn -q -B dependency:get -Dartifact="$p:pom" -Dtransitive=false >/dev/null
			name=$(echo "$p" | cut -d: -f2); mkdir -p "$name/src/main/java"; touch "$name/src/main/java/A.java"
			mvn -q -B dependency:copy -Dartifact="$p:pom" -DoutputDirectory="$name" >/dev/null
			mv "$name"/*.pom "$name/pom.xml"
		done`,
		[]string{"org.apache.commons:commons-lang3:3.17.0", "com.google.code.gson:gson:2.12.1",
			"org.slf4j:slf4j-api:2.0.16"}},
}

// fetch runs a shell command in a directory, or skips the test if that cannot fetch.
func fetch(t *testing.T, dir, tool, script string, names ...string) {
	t.Helper()
	if _, err := exec.LookPath(tool); err != nil {
		t.Skipf("%s is not installed", tool)
	}
	cmd := exec.Command("bash", append([]string{"-o", "pipefail", "-ec", script, "fetch"}, names...)...)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "npm_config_audit=false", "npm_config_fund=false",
		"npm_config_update_notifier=false")
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Skipf("%s could not fetch %s: %v\n%s", tool, strings.Join(names, ", "), err, out)
	}
}

// unasked matches commands that a draft must not run.
var unasked = regexp.MustCompile(`(?m)^run = .*(publish|deploy|git push|npm version|--watchAll\b|--fix\b|rm -rf /)`)

// TestDraftsOfRealProjects drafts forty real projects: each draft is valid, and runs nothing that it must not.
func TestDraftsOfRealProjects(t *testing.T) {
	t.Parallel()
	for _, m := range manifests {
		t.Run(m.tool, func(t *testing.T) {
			t.Parallel()
			root := t.TempDir()
			fetch(t, root, m.tool, m.fetch, m.names...)
			dirs, err := os.ReadDir(root)
			require.NoError(t, err)
			require.GreaterOrEqual(t, len(dirs), len(m.names))
			drafted := 0
			for _, d := range dirs {
				b := &background{t, filepath.Join(root, d.Name())}
				out, code := b.run("draft", "--yes")
				if code != 0 {
					require.Contains(t, out, "was recognized", d.Name())
					continue
				}
				drafted++
				out, code = b.run("check")
				require.Equal(t, 0, code, "%s: %s", d.Name(), out)
				text, err := os.ReadFile(filepath.Join(b.dir, "omnivigil.toml"))
				require.NoError(t, err)
				assert.NotRegexp(t, unasked, string(text), d.Name())
				assert.NotContains(t, string(text), "A guess: .\n")
			}
			require.GreaterOrEqual(t, drafted, len(m.names))
		})
	}
}

// liveProject is a real project that is drafted, started as drafted, and edited.
type liveProject struct {
	name, tool, fetch string
	names             []string
	dir               string // below which it is fetched
	unit              string // that is asked what it runs
	file              string // that is edited
	at                string // the text before which the edits are inserted; empty: the beginning
	edit              string // has %d: the number of the edit
	breaks            string // a broken edit; empty: the unit has no good and bad
	asks              string // a path that the unit's address answers with the number; empty: a file has it

	more  string      // units that are added for the observation; PORT is the port
	clean string      // a shell command that removes what was built
	right []string    // what observation finds in the settings as drafted, and settles
	wrong [][2]string // replacements in the settings that break them
	finds []string    // what observation finds then: units and kinds of mismatches
}

// ignored is what such projects do not keep in version control.
const ignored = "node_modules/\n.venv/\n__pycache__/\n*.egg-info/\ntarget/\ndist/\nbin/go-httpbin\n.nyc_output/\n" +
	"coverage/\nbuild/\n/state/\n/config/\n"

// smoke is a suite that asks a server.
const smoke = "\n[suite.smoke]\nrun = ['node', '-e', 'fetch(process.argv[1]).catch(() => {})', " +
	"'http://127.0.0.1:PORT/']\n"

// marker is where a program of a suite writes the number of the edit.
const marker = "MARKER"

const goEdit = "import \"os\"\n\nfunc init() { os.WriteFile(\"MARKER\", []byte(\"%d\"), 0o644) }\n"

var liveProjects = []liveProject{
	{name: "a compiler in watch mode and a server", tool: "npx", dir: "ferry", unit: "start",
		file: "src/routes/root.ts",
		fetch: `npx --yes fastify-cli@7.4.0 generate ferry --lang=ts >/dev/null; rm -r ferry/test
			sed -i '/"test"/d; s#fastify start -l info#& -p PORT#' ferry/package.json`,
		at: "return { root: true }", edit: "return { edit: %d }\n", breaks: "const edit: number = 'x'\n", asks: "/",
		more: smoke + "needs = [\"start\"]\n",
		wrong: [][2]string{{`(?s)(service.watch-ts.*?\nwatch = )[^\n]*`, `$1["src/app.ts"]`},
			{`follows = \["watch-ts"\]\n`, ""}, {`needs = \["start"\]\n`, ""}},
		finds: []string{"smoke undeclared-need", "start uncovered-read", "watch-ts uncovered-read"}},
	{name: "a server of Express", tool: "npx", dir: "ferry", unit: "start", file: "app.js",
		fetch: `npx --yes express-generator@4.16.1 --no-view ferry >/dev/null
			sed -i "s/'3000'/'PORT'/" ferry/bin/www`,
		at:     "module.exports",
		edit:   "app.get('/edit', (_, to) => to.send('edit = %d'));\n",
		breaks: "app.get(\n", asks: "/edit",
		more:  smoke + "needs = [\"start\"]\n",
		wrong: [][2]string{{`watch = [^\n]*`, ""}, {`needs = \["start"\]\n`, ""}, {`ready = [^\n]*`, ""}},
		finds: []string{"smoke undeclared-need", "start uncovered-read", "start weak-ready"}},
	{name: "a server for development", tool: "npm", dir: "package/template-vanilla-ts", unit: "dev",
		file:  "src/main.ts",
		fetch: `npm pack --silent create-vite@6.2.0 >/dev/null; tar xzf *.tgz`,
		edit:  "export const edit = %d\n", asks: "/src/main.ts",
		wrong: [][2]string{{`ready = [^\n]*`, ""}}, finds: []string{"dev weak-ready"}},
	{name: "tests of a package", tool: "npm", dir: "package", unit: "test", file: "test/bool.js",
		fetch: `npm pack --silent minimist@1.2.8 >/dev/null; tar xzf *.tgz`,
		edit:  "require('fs').writeFileSync('MARKER', '%d');\n", breaks: "require(\n",
		wrong: [][2]string{{`(?s)(suite.test.*?\nwatch = )[^\n]*`, `$1["test/*.js"]`},
			{`(?s)(task.lint.*?\n)watch = [^\n]*`, `$1`}},
		finds: []string{"lint uncovered-read", "test uncovered-read"}},
	{name: "a server in Go", tool: "go", dir: "ferry", unit: "go-httpbin", file: "httpbin/edit.go",
		fetch: `cp -r "$(go mod download -json "$@" | sed -n 's/.*"Dir": "\(.*\)".*/\1/p')" ferry; chmod -R u+w ferry`,
		names: []string{"github.com/mccutchen/go-httpbin/v2@v2.18.1"},
		edit:  "package httpbin\n\n" + goEdit, breaks: "package httpbin\n\nfunc init() {\n",
		clean: "rm -rf bin",
		right: []string{"go-httpbin weak-ready"},
		wrong: [][2]string{{`outputs = [^\n]*`, ""}, {`(?s)(task.vet.*?\nwatch = )[^\n]*`, `$1["go.mod"]`},
			{`follows = [^\n]*`, ""}},
		finds: []string{"go-httpbin uncovered-read", "go-httpbin-build undeclared-output", "vet uncovered-read"}},
	{name: "tests in Go", tool: "go", dir: "ferry", unit: "test", file: "edit_test.go",
		fetch: `cp -r "$(go mod download -json "$@" | sed -n 's/.*"Dir": "\(.*\)".*/\1/p')" ferry; chmod -R u+w ferry`,
		names: []string{"github.com/gorilla/mux@v1.8.1"},
		edit:  "package mux\n\n" + goEdit, breaks: "package mux\n\nfunc init() {\n",
		wrong: [][2]string{{`(?s)(suite.test.*?\nwatch = )[^\n]*`, `$1["mux.go"]`},
			{`(?s)(task.vet.*?\n)watch = [^\n]*`, `$1`}},
		finds: []string{"test uncovered-read", "vet uncovered-read"}},
	{name: "tests in Rust", tool: "cargo", dir: "ferry", unit: "test", file: "tests/test_version.rs",
		fetch: `mkdir -p all/src; touch all/src/lib.rs; cd all
			printf '[package]\nname="all"\nversion="0.1.0"\n[dependencies]\nsemver="=1.0.26"\n' >Cargo.toml
			cargo vendor -q v >/dev/null; mv v/semver ../ferry; rm -f ../ferry/.cargo-checksum.json`,
		at:     "#[test]",
		edit:   "#[test]\nfn edit() { std::fs::write(\"MARKER\", \"%d\").unwrap(); }\n\n",
		breaks: "fn edit() -> u8 { \"x\" }\n",
		clean:  "rm -rf target",
		wrong: [][2]string{{`(?s)(task.check.*?\nwatch = )[^\n]*`, `$1["src/lib.rs"]`},
			{`(?s)(suite.test.*?\n)watch = [^\n]*`, `$1`}},
		finds: []string{"check uncovered-read", "test uncovered-read"}},
	{name: "a server of Flask", tool: "pip", dir: "httpbin-0.10.2", unit: "httpbin", file: "httpbin/core.py",
		fetch: `pip download -q --no-deps --no-binary :all: httpbin==0.10.2 >/dev/null; tar xzf *.tar.gz
			echo '# app.run(port=PORT)' >>httpbin-0.10.2/httpbin/core.py`,
		at: "@app.route(\"/legacy\")", edit: "@app.route('/edit')\ndef edit():\n    return 'edit = %d'\n\n\n",
		breaks: "def edit(:\n", asks: "/edit",
		wrong: [][2]string{{`(?s)(service.httpbin.*?\nwatch = )[^\n]*`, `$1["**/*.html"]`},
			{`(?s)(suite.test.*?\n)watch = [^\n]*`, `$1`}},
		finds: []string{"httpbin uncovered-read", "test uncovered-read"}},
	{name: "tests in Python", tool: "pip", dir: "click-8.1.8", unit: "test", file: "tests/test_basic.py",
		fetch: `pip download -q --no-deps --no-binary :all: click==8.1.8 >/dev/null; tar xzf *.tar.gz`,
		at:    "def test_basic_functionality", edit: "open('MARKER', 'w').write('%d')\n\n\n", breaks: "open(\n\n\n",
		wrong: [][2]string{{`watch = [^\n]*`, `watch = ["tests/*.py"]`}}, finds: []string{"test uncovered-read"}},
	{name: "tests in Java", tool: "mvn", dir: "ferry", unit: "test", file: "src/test/java/saltmarsh/AppTest.java",
		fetch: `mvn -q -B archetype:generate -DarchetypeGroupId=org.apache.maven.archetypes -DarchetypeVersion=1.5 \
			-DarchetypeArtifactId=maven-archetype-quickstart -DgroupId=saltmarsh -DartifactId=ferry >/dev/null`,
		at: "    @Test",
		edit: "    static { try { java.nio.file.Files.writeString(java.nio.file.Path.of(\"MARKER\"), \"%d\"); }" +
			" catch (Exception e) {} }\n",
		breaks: "    int edit = \"x\";\n",
		clean:  "rm -rf target",
		wrong: [][2]string{{`(?s)(task.compile.*?\n)watch = [^\n]*`, `$1`},
			{`(?s)(suite.test.*?\nwatch = )[^\n]*`, `$1["pom.xml"]`}},
		finds: []string{"compile uncovered-read", "test uncovered-read"}},
}

// TestDraftedProjectsRunWhatWasSaved drafts ten real projects of all kinds, starts them as drafted, and edits them.
// After each edit the verdict of the edited unit is right, and the program itself is asked which edit it runs.
func TestDraftedProjectsRunWhatWasSaved(t *testing.T) {
	t.Parallel()
	for _, r := range liveProjects {
		t.Run(r.name, func(t *testing.T) {
			t.Parallel()
			r.test(t)
		})
	}
}

func (r liveProject) test(t *testing.T) {
	root, written := t.TempDir(), filepath.Join(t.TempDir(), "marker")
	port := fmt.Sprint(freePorts(1)[0])
	fetch(t, root, r.tool, strings.ReplaceAll(r.fetch, "PORT", port), r.names...)
	b := &background{t, filepath.Join(root, r.dir)}
	b.write(".env", "PORT="+port+"\n")
	out, code := b.run("draft", "--yes")
	require.Equal(t, 0, code, out)
	out, code = b.run("start", "--background", "--trust")
	require.Equal(t, 0, code, out)
	t.Cleanup(func() {
		b.run("stop", "--all")
		noneLeft(t, b.dir)
	})
	out, code = b.run("wait", r.unit)
	require.Equal(t, 0, code, "%s\n%s", out, b.log(r.unit))

	file := filepath.Join(b.dir, r.file)
	before, _ := os.ReadFile(file)
	save := func(edit string) {
		head, tail, found := strings.Cut(string(before), r.at)
		require.True(t, found || r.at == "", "%s has no %q", r.file, r.at)
		text := head + strings.ReplaceAll(edit, marker, written) + r.at + tail
		require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
	}
	for n := range 4 {
		if n == 2 && r.breaks != "" {
			save(r.breaks)
			out, code = b.run("wait", r.unit)
			require.Equal(t, 1, code, "%s\n%s", out, b.log(r.unit))
		}
		save(fmt.Sprintf(r.edit, n))
		out, code = b.run("wait", r.unit)
		require.Equal(t, 0, code, "%s\n%s", out, b.log(r.unit))
		require.Contains(t, r.answer(b, written), fmt.Sprint(n), "edit %d\n%s", n, b.log(r.unit))
	}
	b.run("stop", "--all")
	r.observe(b, port)
}

// observe observes the project as drafted, and then with settings that were broken on purpose: each defect is
// found, and nothing else.
func (r liveProject) observe(b *background, port string) {
	t := b.t
	settings := filepath.Join(b.dir, "omnivigil.toml")
	ignore, _ := os.ReadFile(filepath.Join(b.dir, ".gitignore"))
	require.NoError(t, os.WriteFile(filepath.Join(b.dir, ".gitignore"), append(ignore, ignored...), 0o644))
	edit := func(change func(string) string) {
		text, err := os.ReadFile(settings)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(settings, []byte(change(string(text))), 0o644))
	}
	observed := func(words ...string) (found []string, out string) {
		clean := exec.Command("sh", "-c", r.clean)
		clean.Dir = b.dir
		require.NoError(t, clean.Run())
		cmd := b.command(append([]string{"observe", "--trust", "--json"}, words...)...)
		text, _ := cmd.Output()
		var all api.Observations
		require.NoError(t, json.NewDecoder(bytes.NewReader(text)).Decode(&all), string(text))
		for _, m := range all.Mismatches {
			out += m.Unit + " " + m.Text + "\n"
			if m.Severity != api.SeverityNote {
				found = append(found, m.Unit+" "+string(m.Kind))
			}
		}
		return found, out
	}
	edit(func(text string) string { return text + strings.ReplaceAll(r.more, "PORT", port) })
	found, out := observed("--write", "--yes")
	assert.ElementsMatch(t, r.right, found, out)
	edit(func(text string) string {
		for _, w := range r.wrong {
			broken := regexp.MustCompile(w[0]).ReplaceAllString(text, w[1])
			require.NotEqual(t, text, broken, "%s\n%s", w[0], text)
			text = broken
		}
		return text
	})
	found, out = observed()
	assert.ElementsMatch(t, r.finds, found, out)
}

// answer is what a program says about the edit that it runs.
func (r liveProject) answer(b *background, written string) string {
	if r.asks == "" {
		text, _ := os.ReadFile(written)
		return string(text)
	}
	b.t.Helper()
	text := ""
	// A server without a known address is ready before it listens.
	require.True(b.t, holds(20*time.Second, func() bool {
		for _, at := range b.status().Uses[r.unit].Addresses {
			answer, err := http.Get(fmt.Sprintf("http://127.0.0.1:%d%s", at.Port(), r.asks))
			if err != nil {
				continue
			}
			body, _ := io.ReadAll(answer.Body)
			answer.Body.Close()
			text = string(body)
			return true
		}
		return false
	}), "%s has no address\n%s", r.unit, b.log(r.unit))
	return text
}

// log returns the end of a unit's output.
func (b *background) log(unit string) string {
	out, _ := b.run("logs", unit)
	return out[max(len(out)-3000, 0):]
}
