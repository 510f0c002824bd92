package e2e

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// compiled is a project with a TypeScript compiler in its own watch mode and a Node server that follows it, on a
// screen.
type compiled struct {
	t    *testing.T
	dir  string
	url  string
	on   *screen
	last time.Time // of the newest save
}

const nodeServer = `import { text } from "./greeting";
declare const require: any, process: any;
require("http").createServer((_: any, answer: any) => answer.end(text)).listen(Number(process.env.PORT), "127.0.0.1");
`

func openCompiled(t *testing.T) *compiled {
	for _, program := range []string{"tsc", "node", "git"} {
		if _, err := exec.LookPath(program); err != nil {
			t.Skipf("%s is not installed", program)
		}
	}
	port := freePorts(1)[0]
	c := &compiled{t: t, dir: t.TempDir(), url: fmt.Sprintf("http://127.0.0.1:%d/", port)}
	c.write(".gitignore", "dist/\n")
	c.write(
		"tsconfig.json",
		`{"compilerOptions": {"rootDir": "web", "outDir": "dist", "module": "commonjs", "target": "es2020"}, `+
			`"include": ["web"]}`,
	)
	c.write("web/main.ts", nodeServer)
	c.write("web/greeting.ts", greeting("in the morning"))
	c.write("omnivigil.toml", fmt.Sprintf(`
[service.pages]
run = ["tsc", "--watch"]
watch = ["web/**/*.ts"]
pass = "auto"

[service.web]
run = ["node", "dist/main.js"]
env = { PORT = "%d" }
needs = ["pages"]
follows = ["pages"]
ready = { http = "http://127.0.0.1:${PORT}/" }
`, port))
	c.git("init", "-q", "-b", "main")
	c.git("add", ".")
	c.git("commit", "-q", "-m", "Open the office")
	c.git("branch", "evening")
	c.on = openScreen(t, 158, 46, []string{"XDG_STATE_HOME=" + t.TempDir()}, c.dir, build(t), "start", "--trust")
	return c
}

func greeting(text string) string { return fmt.Sprintf("export const text: string = %q;\n", text) }

func (c *compiled) write(name, text string) {
	path := filepath.Join(c.dir, name)
	require.NoError(c.t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(c.t, os.WriteFile(path, []byte(text), 0o644))
}

func (c *compiled) git(words ...string) {
	cmd := exec.Command(
		"git",
		append([]string{"-c", "user.name=Test", "-c", "user.email=test@example.test"}, words...)...)
	cmd.Dir = c.dir
	out, err := cmd.CombinedOutput()
	require.NoError(c.t, err, string(out))
}

// saves changes files in a second of its own, so that the verdict distinguishes it from every earlier save.
func (c *compiled) saves(do func()) {
	for c.last.Unix() == time.Now().Unix() {
		time.Sleep(20 * time.Millisecond)
	}
	c.last = time.Now()
	do()
}

var savedAt = regexp.MustCompile(`^CURRENT .*the code saved (\d\d:\d\d:\d\d)`)

// isCurrent reports whether the verdict says that everything runs the newest save.
func (c *compiled) isCurrent() bool {
	m := savedAt.FindStringSubmatch(strings.TrimSpace(c.on.text()))
	return m != nil && m[1] >= c.last.Format(time.TimeOnly)
}

// runs waits until the verdict says that everything runs the newest save, and requires that the server answers with
// the current source. A server that does not answer is not old code: the compiler may have begun another pass.
func (c *compiled) runs(text string) {
	c.t.Helper()
	for until := time.Now().Add(patience); ; {
		if !assert.Eventually(c.t, c.isCurrent, patience, longestPause) {
			require.FailNow(c.t, "never current", c.on.text())
		}
		answer := get(c.url)
		if strings.HasPrefix(answer, "Get ") && time.Now().Before(until) {
			continue
		}
		require.Equal(c.t, text, answer, "the verdict is CURRENT:\n%s", c.on.text())
		return
	}
}

// TestRealCompilerAndServer checks the claim with a compiler that picks up changes by itself: whenever the verdict is
// CURRENT, the server that follows it answers what was saved.
func TestRealCompilerAndServer(t *testing.T) {
	t.Parallel()
	c := openCompiled(t)
	c.on.shows(`CURRENT +all 2 run`) // from a clean checkout, without dist
	require.Equal(t, "in the morning", get(c.url))

	for n := range 20 {
		text := fmt.Sprintf("at %d o'clock", n)
		if n%4 == 2 {
			c.saves(func() { c.write("web/greeting.ts", "export const text: string = "+strconv.Itoa(n)+";\n") })
			c.on.shows(`BROKEN +pages: web/greeting\.ts:1:14: Type 'number' is not assignable`)
		}
		c.saves(func() { c.write("web/greeting.ts", greeting(text)) })
		c.runs(text)
	}

	c.git("commit", "-q", "-a", "-m", "Tell the time")
	for range 2 {
		c.saves(func() { c.git("switch", "-q", "evening") })
		c.runs("in the morning")
		c.saves(func() { c.git("switch", "-q", "main") })
		c.runs("at 19 o'clock")
	}

	require.NoError(t, syscall.Kill(c.pid("pages"), syscall.SIGKILL))
	c.on.shows(`(BROKEN|STALE) .*pages crashed`)
	c.saves(func() { c.write("web/greeting.ts", greeting("after the crash")) })
	c.runs("after the crash")

	c.on.press("q", "q")
	c.on.shows(`exit code 0`)
}

// pid is the process of a unit.
func (c *compiled) pid(unit string) int {
	environments, err := filepath.Glob("/proc/[0-9]*/environ")
	require.NoError(c.t, err)
	for _, file := range environments {
		env, _ := os.ReadFile(file)
		if bytes.Contains(env, []byte("OMNIVIGIL_UNIT="+unit+"\x00")) &&
			bytes.Contains(env, []byte("PWD="+c.dir+"\x00")) {
			pid, err := strconv.Atoi(filepath.Base(filepath.Dir(file)))
			require.NoError(c.t, err)
			return pid
		}
	}
	require.FailNow(c.t, "no process of "+unit)
	return 0
}
