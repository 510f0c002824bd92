//go:build linux && (amd64 || arm64)

package observe

import (
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// activity is what was done with paths below a directory, as sorted lines "name: did".
type activity map[string]bool

func (d activity) add(root, path, did string) {
	if name, err := filepath.Rel(root, path); err == nil && filepath.IsLocal(name) {
		d[temporary.ReplaceAllString(name, "N")+": "+did] = true
	}
}

// temporary matches the changing parts of the names of temporary files.
var temporary = regexp.MustCompile(`(rmeta|rustc)\w{6}\b|\d{3,}|[0-9a-z]{8,}$`)

func (d activity) lines() []string { return slices.Sorted(maps.Keys(d)) }

// activityOf are those of a log.
func activityOf(root string, s Seen) activity {
	d := activity{}
	for _, p := range s.Paths {
		for did, access := range map[string]Access{
			"seen": Read | Looked | Listed, "listed": Listed, "missing": Missing, "wrote": Written | Created,
			"removed": Removed, "ran": Executed, "watched": Watched,
		} {
			if p.Access.Any(access) {
				d.add(root, filepath.Join(root, p.Name), did)
			}
		}
	}
	return d
}

// tracer reads what strace has written about each process.
type tracer struct {
	root, prefix string
	activity     activity
	done         map[int]bool
}

var (
	callLine = regexp.MustCompile(`^(\w+)\((.*)\)\s+= (-?\d+)(?:<([^>]*)>)?(?: (E\w+))?`)
	child    = regexp.MustCompile(`^(?:clone3?|v?fork)\(.*= (\d+)$`)
	argument = regexp.MustCompile(`"((?:[^"\\]|\\.)*)"|(AT_FDCWD|\d+)<([^>]*)>`)
)

// first is the process that no other one has started.
func (s *tracer) first(t *testing.T) int {
	files, err := filepath.Glob(s.prefix + ".*")
	require.NoError(t, err)
	started, all := map[string]bool{}, []string{}
	for _, file := range files {
		all = append(all, strings.TrimPrefix(file, s.prefix+"."))
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		for line := range strings.Lines(string(text)) {
			if m := child.FindStringSubmatch(strings.TrimSpace(line)); m != nil {
				started[m[1]] = true
			}
		}
	}
	all = slices.DeleteFunc(all, func(pid string) bool { return started[pid] })
	require.Len(t, all, 1)
	pid, err := strconv.Atoi(all[0])
	require.NoError(t, err)
	return pid
}

// follow reads the calls of a process that starts in a directory, and those of its children.
func (s *tracer) follow(t *testing.T, pid int, cwd string) {
	if s.done[pid] {
		return
	}
	s.done[pid] = true
	text, err := os.ReadFile(s.prefix + "." + strconv.Itoa(pid))
	require.NoError(t, err)
	for line := range strings.Lines(string(text)) {
		line = strings.TrimSpace(line)
		if m := child.FindStringSubmatch(line); m != nil {
			id, _ := strconv.Atoi(m[1])
			s.follow(t, id, cwd)
			continue
		}
		if m := callLine.FindStringSubmatch(line); m != nil {
			cwd = s.call(m[1], m[2], m[5], cwd)
		}
	}
}

// call adds one call, and returns the working directory after it.
func (s *tracer) call(name, args, failure, cwd string) string {
	var paths []string
	base := cwd
	for _, m := range argument.FindAllStringSubmatch(args, -1) {
		if m[2] != "" {
			if filepath.IsAbs(m[3]) {
				base = m[3]
			}
			continue
		}
		path, _ := strconv.Unquote(`"` + m[1] + `"`)
		if !filepath.IsAbs(path) {
			path = base + "/" + path
		}
		if m[1] != "" {
			paths = append(paths, path)
		}
	}
	if strings.HasPrefix(name, "getdents") {
		s.activity.add(s.root, base, "seen")
		s.activity.add(s.root, base, "listed")
	}
	if name == "fchdir" && failure == "" {
		return base
	}
	if len(paths) == 0 {
		return cwd
	}
	missing := failure == "ENOENT" || failure == "ENOTDIR"
	one := func(path, did string) { s.activity.add(s.root, path, did) }
	followed, direct := resolved(paths[0], true), resolved(paths[0], false)
	writes := strings.Contains(args, "O_WRONLY") || strings.Contains(args, "O_RDWR") || name == "creat"
	switch name {
	case "chdir":
		if failure == "" {
			return followed
		}
	case "open", "openat", "openat2", "creat":
		creates := strings.Contains(args, "O_CREAT") || name == "creat"
		switch {
		case strings.Contains(args, "O_TMPFILE"):
		case missing:
			if !creates {
				one(followed, "missing")
			}
		case failure != "" || !writes && !creates:
			one(followed, "seen")
		default:
			if strings.Contains(args, "O_RDWR") && !strings.Contains(args, "O_TRUNC") &&
				!strings.Contains(args, "O_EXCL") {
				one(followed, "maybe seen")
			}
			one(followed, "wrote")
		}
	case "stat", "lstat", "newfstatat", "statx", "access", "faccessat", "faccessat2", "readlink", "readlinkat":
		if name == "lstat" || strings.HasPrefix(name, "readlink") || strings.Contains(args, "AT_SYMLINK_NOFOLLOW") {
			followed = direct
		}
		if missing {
			one(followed, "missing")
		} else {
			one(followed, "seen")
		}
	case "inotify_add_watch":
		switch {
		case missing:
			one(followed, "missing")
		case failure == "":
			one(followed, "seen")
			one(followed, "watched")
		}
	case "execve":
		switch {
		case missing:
			one(followed, "missing")
		case failure == "":
			one(followed, "seen")
			one(followed, "ran")
		}
	case "mkdir", "mkdirat", "mknod", "mknodat":
		if failure == "" {
			one(direct, "wrote")
		}
	case "unlink", "unlinkat", "rmdir":
		if failure == "" {
			one(direct, "removed")
		}
	case "truncate":
		if failure == "" {
			one(followed, "wrote")
		}
	default:
		s.two(name, paths, failure)
	}
	return cwd
}

// two adds a call with two names.
func (s *tracer) two(name string, paths []string, failure string) {
	if len(paths) < 2 || failure != "" {
		return
	}
	from, to := resolved(paths[0], false), resolved(paths[1], false)
	switch name {
	case "rename", "renameat", "renameat2":
		s.activity.add(s.root, from, "removed")
		s.activity.add(s.root, to, "wrote")
	case "link", "linkat":
		s.activity.add(s.root, from, "seen")
		s.activity.add(s.root, to, "wrote")
	case "symlink", "symlinkat":
		s.activity.add(s.root, to, "wrote")
	}
}

// resolved is a path without links, as far as it still exists.
func resolved(path string, follow bool) string {
	path = filepath.Clean(path)
	if follow {
		if followed, err := filepath.EvalSymlinks(path); err == nil {
			return followed
		}
	}
	if path == "/" {
		return path
	}
	return filepath.Join(resolved(filepath.Dir(path), true), filepath.Base(path))
}

// observed runs a command under observation.
func observed(t *testing.T, dir string, argv []string, env []string) (Seen, error) {
	path, err := exec.LookPath(argv[0])
	require.NoError(t, err)
	cmd := &exec.Cmd{Path: path, Args: argv, Dir: dir, Env: env}
	out := &strings.Builder{}
	cmd.Stdout, cmd.Stderr = out, out
	o, err := Prepare(cmd)
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	log := NewLog(dir, nil)
	require.NoError(t, o.Attach(log))
	if err = cmd.Wait(); err != nil {
		err = fmt.Errorf("%w: %s", err, out)
	}
	return log.Seen(), err
}

// need skips a test without a program.
func need(t *testing.T, programs ...string) {
	t.Helper()
	for _, p := range programs {
		if _, err := exec.LookPath(p); err != nil {
			t.Skipf("not tested: %s is not installed", p)
		}
	}
}

// filledCache returns a new build cache in the state of another one, which gets a part of the standard library first.
func filledCache(t *testing.T, from string) string {
	build := exec.Command("go", "build", "os", "runtime/debug")
	build.Env = append(os.Environ(), "GOCACHE="+from)
	require.NoError(t, build.Run())
	dir := filepath.Join(t.TempDir(), "cache")
	require.NoError(t, exec.Command("cp", "-al", from, dir).Run())
	return dir
}

// TestAgreesWithStrace compares what is seen of real programs with what strace(1) reports of the same commands: nothing
// is missing and nothing invented.
func TestAgreesWithStrace(t *testing.T) {
	need(t, "strace")
	warm := t.TempDir()
	for _, c := range []struct {
		name  string
		needs string
		files map[string]string
		run   string
	}{
		{"shell", "sh", map[string]string{"tides.csv": "low\nhigh\n", "lib/names": "quay\n"}, `
			cat tides.csv | sort > sorted; ln -s lib/names link; cat link; mkdir -p out/a; mv sorted out/a/
			[ -f conf/tides.toml ] || echo none > out/none; rm out/none; ln out/a/sorted hard; ls lib; cp -r lib copy
			cd lib; cat names ../tides.csv; cat < /dev/null; touch names; test -x names; rmdir ../out 2> /dev/null || true`},
		{"make", "make gcc", map[string]string{
			"Makefile": "quay: quay.o berth.o\n\tcc -o $@ $^\n%.o: %.c quay.h\n\tcc -c $<\n",
			"quay.h":   "int berth(void);\n", "berth.c": "#include \"quay.h\"\nint berth(void) { return 0; }\n",
			"quay.c": "#include \"quay.h\"\nint main(void) { return berth(); }\n",
		}, "make && make && ./quay"},
		{"go", "go", map[string]string{
			"go.mod": "module saltmarsh.example/quay\n\ngo 1.25\n", "quay.go": "package main\n\nfunc main() {}\n",
			"berth/berth.go": "package berth\n", "berth/berth_test.go": "package berth\n",
		}, "go build -o bin/quay . && ./bin/quay && go vet ./..."},
		{"python", "python3", map[string]string{
			"quay.py":           "import berth\nopen('log', 'w').write(berth.name())\n",
			"berth/__init__.py": "from .names import name\n",
			"berth/names.py":    "import json\ndef name(): return json.load(open('berth/names.json'))['a']\n",
			"berth/names.json":  `{"a": "north"}`,
		}, "python3 quay.py"},
		{"rust", "cargo", map[string]string{
			"Cargo.toml":  "[package]\nname = \"quay\"\nversion = \"0.1.0\"\nedition = \"2021\"\n",
			"src/main.rs": "mod berth;\nfn main() { berth::name(); }\n", "src/berth.rs": "pub fn name() {}\n",
		}, "rustc --edition 2021 -o quay src/main.rs && ./quay"},
		{"tsc", "tsc", map[string]string{
			"tsconfig.json": `{"compilerOptions": {"outDir": "dist", "types": []}, "include": ["src"]}`,
			"src/quay.ts":   "import { name } from './berth'\nexport const text: string = name\n",
			"src/berth.ts":  "export const name = 'north'\n",
		}, "tsc && ls dist"},
		{"node", "node", map[string]string{
			"package.json": `{"name": "quay", "type": "module"}`, "lib/berth.js": "export const name = 'north'\n",
			"quay.js": "import { name } from './lib/berth.js'\nimport fs from 'node:fs'\n" +
				"fs.writeFileSync('out.txt', name)\nfs.watch('lib', { persistent: false })\n",
		}, "node quay.js"},
	} {
		t.Run(c.name, func(t *testing.T) {
			need(t, strings.Fields(c.needs)...)
			root, err := filepath.EvalSymlinks(t.TempDir())
			require.NoError(t, err)
			root = filepath.Join(root, "project")
			lay := func() []string {
				require.NoError(t, os.RemoveAll(root))
				for name, text := range c.files {
					require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(root, name)), 0o755))
					require.NoError(t, os.WriteFile(filepath.Join(root, name), []byte(text), 0o644))
				}
				env := append(os.Environ(), "PWD="+root, "TMPDIR="+t.TempDir())
				if c.needs == "go" {
					env = append(env, "GOCACHE="+filledCache(t, warm))
				}
				return env
			}
			env := lay()
			trace := &tracer{root, filepath.Join(t.TempDir(), "trace"), activity{}, map[int]bool{}}
			cmd := exec.Command("strace", "-ff", "-qq", "-y", "-s", "4096", "-e", "signal=none", "-e",
				"trace=%file,%process,getdents,getdents64,fchdir,inotify_add_watch", "-o", trace.prefix,
				"sh", "-c", c.run)
			cmd.Dir, cmd.Env = root, env
			out, err := cmd.CombinedOutput()
			require.NoError(t, err, string(out))
			trace.follow(t, trace.first(t), root)
			env = lay()
			seen, err := observed(t, root, []string{"sh", "-c", c.run}, env)
			require.NoError(t, err)
			ours := activityOf(root, seen)
			for line := range trace.activity { // whether it existed before is not in the trace
				if name, maybe := strings.CutSuffix(line, ": maybe seen"); maybe {
					delete(trace.activity, line)
					if ours[name+": seen"] {
						trace.activity[name+": seen"] = true
					}
				}
			}
			require.Greater(t, len(ours), 5)
			assert.Equal(t, strings.Join(trace.activity.lines(), "\n"), strings.Join(ours.lines(), "\n"))
			assert.Zero(t, seen.Unread)
		})
	}
}
