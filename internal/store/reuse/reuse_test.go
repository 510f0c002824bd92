package reuse

import (
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/plan"
	"omnivigil/internal/plan/settings"
	"omnivigil/internal/store/contents"
	"omnivigil/internal/watch/pattern"
)

// office is a project on disk whose tasks have run, and the directory of its results.
type office struct {
	t           *testing.T
	root, state string
}

const settingsText = `
[service.tides]
run = "./tides"
watch = ["tides.csv"]
[task.rates]
run = "./rates"
watch = ["rates.csv"]
outputs = ["build/rates.json"]
[task.fares]
run = ["bin/fares", "$HARBOUR"]
env = { LEVEL = "1" }
needs = ["rates", "tides"]
prelude = ["./free"]
watch = ["fares/**"]
outputs = ["build/fares.json", "build/pages/**"]
reuse = true
`

func open(t *testing.T) *office {
	o := &office{t, t.TempDir(), t.TempDir()}
	o.write(plan.FileName, settingsText)
	for _, name := range []string{"tides.csv", "rates.csv", "fares/a.csv", "build/rates.json", "build/fares.json",
		"build/pages/1.html"} {
		o.write(name, name)
	}
	o.write("bin/fares", "#!/bin/sh\n")
	t.Setenv("HARBOUR", "east")
	return o
}

func (o *office) at(name string) string { return filepath.Join(o.root, name) }

func (o *office) write(name, text string) {
	require.NoError(o.t, os.MkdirAll(filepath.Dir(o.at(name)), 0o755))
	require.NoError(o.t, os.WriteFile(o.at(name), []byte(text), 0o755))
}

// begin starts another session in which the task fares should run.
func (o *office) begin() (*Results, *Attempt) {
	p, err := settings.Read(o.at(plan.FileName))
	require.NoError(o.t, err)
	store := contents.In(filepath.Join(o.state, "contents"), contents.Limits{})
	r := In(o.state, o.root, store, func(unit string) []string {
		var patterns []string
		for _, w := range p.Unit(unit).Watch {
			patterns = append(patterns, w.Text)
		}
		return pattern.Files(o.root, patterns)
	})
	a, err := r.Begin(p, p.Unit("fares"))
	require.NoError(o.t, err)
	return r, a
}

func (o *office) runWell() {
	r, a := o.begin()
	require.NoError(o.t, a.Ended())
	require.NoError(o.t, a.EndedWell(nil))
	require.NoError(o.t, r.Save())
}

// makes is a run with outputs, by their names, whose output is one line. It returns what differs from an earlier run.
func (o *office) makes(outputs map[string]string) (different []string) {
	r, a := o.begin()
	require.NoError(o.t, a.Starts())
	for name, text := range outputs {
		o.write("build/"+name, text)
	}
	require.NoError(o.t, a.Ended())
	require.NoError(o.t, a.EndedWell([]byte("told")))
	different, err := a.Keep([]string{fmt.Sprint(len(outputs), " made")})
	require.NoError(o.t, err)
	require.NoError(o.t, r.Save())
	return different
}

func (o *office) clean() { require.NoError(o.t, os.RemoveAll(o.at("build/pages"))) }

func (o *office) has(outputs map[string]string) {
	o.t.Helper()
	got := map[string]string{}
	for _, name := range pattern.Files(o.root, []string{"build/fares.json", "build/pages/**"}) {
		data, err := os.ReadFile(name)
		require.NoError(o.t, err)
		rel, err := filepath.Rel(o.at("build"), name)
		require.NoError(o.t, err)
		got[filepath.ToSlash(rel)] = string(data)
	}
	assert.Equal(o.t, outputs, got)
}

// TestRestore makes results of two states of the inputs, and switches between these.
func TestRestore(t *testing.T) {
	o := open(t)
	o.clean()
	o.write("build/pages/note.txt", "of the user")
	east := map[string]string{"fares.json": "east", "pages/1.html": "1", "pages/note.txt": "of the user"}
	west := map[string]string{
		"fares.json": "west", "pages/1.html": "1", "pages/2.html": "2", "pages/note.txt": "of the user",
	}
	time.Sleep(2 * sameTick) // the note is older than the runs
	o.makes(east)
	o.write("fares/a.csv", "west")
	o.makes(west)
	for range 3 {
		o.write("fares/a.csv", "fares/a.csv")
		_, a := o.begin()
		require.False(t, a.Holds)
		require.True(t, a.IsKept())
		done, err := a.Restore()
		require.NoError(t, err)
		assert.Equal(t, []string{"3 made"}, done.Lines)
		assert.Equal(t, []string{"build/pages/2.html"}, done.Removed, "it was made by a run")
		assert.Equal(t, "told", string(a.Told()))
		o.has(east)
		assert.True(t, o.holds())

		o.write("fares/a.csv", "west")
		o.clean()
		_, a = o.begin()
		done, err = a.Restore()
		require.NoError(t, err)
		written := []string{"build/fares.json", "build/pages/1.html", "build/pages/2.html", "build/pages/note.txt"}
		assert.ElementsMatch(t, written, done.Written)
		o.has(west)
	}

	// What a run made is removed, even if it has ended badly. If nothing is known of its end, the task runs again.
	_, a := o.begin()
	require.NoError(t, a.Starts())
	o.write("build/pages/bad.html", "half")
	_, again := o.begin()
	assert.False(t, again.Holds || again.IsKept())
	require.NoError(t, a.Ended())
	_, again = o.begin()
	require.True(t, again.IsKept())
	done, err := again.Restore()
	require.NoError(t, err)
	assert.Equal(t, []string{"build/pages/bad.html"}, done.Removed)

	// A file that no run made stays.
	o.write("build/pages/own.txt", "of the user")
	past := time.Now().Add(-time.Hour)
	require.NoError(t, os.Chtimes(o.at("build/pages/own.txt"), past, past))
	_, a = o.begin()
	_, err = a.Restore()
	require.NoError(t, err)
	assert.FileExists(t, o.at("build/pages/own.txt"))

	// What a killed restoration has left is removed at once, and what it has restored by the next one.
	o.write("fares/a.csv", "west")
	r, a := o.begin()
	require.NoError(t, r.noteRestoring(a.unit, a.earlier.Tree))
	o.write("build/pages/2.html", "2")
	o.write("build/pages/3.html", "of an earlier run")
	require.NoError(t, os.Chtimes(o.at("build/pages/3.html"), past, past))
	require.NoError(t, r.setMade(a.unit, append(r.madeBy(a.unit), "build/pages/3.html")))
	leftover := "build/pages/" + pattern.Restoring + r.restoring(a.unit).Mark + "X"
	o.write(leftover, "half")
	o.write("fares/a.csv", "fares/a.csv")
	_, a = o.begin()
	assert.NoFileExists(t, o.at(leftover))
	done, err = a.Restore()
	require.NoError(t, err)
	assert.Equal(t, []string{"build/pages/2.html", "build/pages/3.html"}, done.Removed)
	_, err = os.Lstat(r.restoringFile(a.unit))
	require.ErrorIs(t, err, fs.ErrNotExist)

	// Without the contents, it has to run.
	require.NoError(t, os.RemoveAll(filepath.Join(o.state, "contents")))
	o.clean()
	_, a = o.begin()
	assert.False(t, a.Holds || a.IsKept())
	_, err = a.Restore()
	require.ErrorIs(t, err, contents.ErrAbsent)
}

func TestNotDeterministic(t *testing.T) {
	o := open(t)
	o.clean()
	assert.Empty(t, o.makes(map[string]string{"fares.json": "1", "pages/1.html": "1"}))
	assert.Empty(t, o.makes(map[string]string{"fares.json": "1"}))
	assert.Equal(t, []string{"build/fares.json", "build/pages/2.html"},
		o.makes(map[string]string{"fares.json": "2", "pages/2.html": "2"}))
}

// TestKeepFails checks what is not kept, and that the result is still valid.
func TestKeepFails(t *testing.T) {
	for name, test := range map[string]struct {
		before  func(o *office)
		problem string
	}{
		"too large": {func(o *office) {
			o.write("build/fares.json", strings.Repeat("x", 2_000_000))
		}, "at most 1 MB"},
		"the disk": {func(o *office) {
			o.write("../"+filepath.Base(o.state)+"/contents", "a file")
		}, "not a directory"},
		"a link that leaves": {func(o *office) {
			require.NoError(o.t, os.Symlink("/etc", o.at("build/pages/etc")))
		}, "outside of the project"},
	} {
		t.Run(name, func(t *testing.T) {
			o := open(t)
			o.state = filepath.Join(filepath.Dir(o.root), filepath.Base(o.state))
			require.NoError(t, os.MkdirAll(o.state, 0o755))
			test.before(o)
			r, a := o.begin()
			a.unit.KeepOutputs = 1_000_000
			require.NoError(t, a.EndedWell(nil))
			_, err := a.Keep(nil)
			require.ErrorContains(t, err, test.problem)
			require.NoError(t, r.Save())
			_, a = o.begin()
			assert.True(t, a.Holds)
			assert.False(t, a.IsKept())
		})
	}
}

func (o *office) holds() bool {
	_, a := o.begin()
	return a.Holds
}

func TestWhatAResultDependsOn(t *testing.T) {
	edit := func(from, to string) func(*office) {
		return func(o *office) { o.write(plan.FileName, strings.Replace(settingsText, from, to, 1)) }
	}
	write := func(name string) func(*office) { return func(o *office) { o.write(name, "other") } }
	remove := func(name string) func(*office) {
		return func(o *office) { require.NoError(o.t, os.RemoveAll(o.at(name))) }
	}
	for name, c := range map[string]struct {
		do    func(*office)
		holds bool
	}{
		"nothing":                     {func(*office) {}, true},
		"an input":                    {write("fares/a.csv"), false},
		"an input, written the same":  {func(o *office) { o.write("fares/a.csv", "fares/a.csv") }, true},
		"a new input":                 {write("fares/b.csv"), false},
		"an input gone":               {remove("fares/a.csv"), false},
		"an output":                   {write("build/fares.json"), false},
		"an output gone":              {remove("build/pages"), false},
		"one output more":             {write("build/pages/2.html"), false},
		"its command":                 {edit(`"bin/fares", `, `"bin/fares", "-v", `), false},
		"its program":                 {write("bin/fares"), false},
		"a step before it":            {edit("./free", "./take"), false},
		"its own variable":            {edit(`LEVEL = "1"`, `LEVEL = "2"`), false},
		"a variable that it names":    {func(o *office) { o.t.Setenv("HARBOUR", "west") }, false},
		"another variable":            {func(o *office) { o.t.Setenv("LIGHTHOUSE", "on") }, true},
		"what a needed task has made": {write("build/rates.json"), false},
		"what it makes that from":     {write("rates.csv"), true},
		"what a needed service reads": {write("tides.csv"), true},
		"a needed service's command":  {edit("./tides", "./tides -v"), false},
		"another file":                {write("README"), true},
	} {
		t.Run(name, func(t *testing.T) {
			o := open(t)
			assert.False(t, o.holds(), "it never ran")
			o.runWell()
			require.True(t, o.holds())
			c.do(o)
			assert.Equal(t, c.holds, o.holds())
		})
	}
}

func TestInputsWrittenDuringARun(t *testing.T) {
	for name, texts := range map[string][]string{"changed": {"other"}, "changed and back": {"other", "fares/a.csv"}} {
		t.Run(name, func(t *testing.T) {
			o := open(t)
			_, a := o.begin()
			for _, text := range texts {
				o.write("fares/a.csv", text)
			}
			require.NoError(t, a.EndedWell(nil))
			assert.False(t, o.holds(), "it is not known what it has read")
		})
	}
}

func TestARecordThatCannotBeRead(t *testing.T) {
	o := open(t)
	o.runWell()
	damaged := 0
	all := filepath.Join(o.state, "reuse")
	require.NoError(t, filepath.WalkDir(all, func(file string, e fs.DirEntry, err error) error {
		if err == nil && !e.IsDir() {
			damaged++
			err = os.WriteFile(file, []byte("{"), 0o600)
		}
		return err
	}))
	require.Equal(t, 3, damaged, "the result, what was made, and the index")
	assert.False(t, o.holds())
	o.runWell()
	assert.True(t, o.holds())
}

// A file whose metadata proves nothing is read again: one that was written in the tick in which it was read, or with
// its time set back.
func TestIndexTrust(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "file")
	require.NoError(t, os.WriteFile(file, []byte("a"), 0o600))
	x := OpenIndex(filepath.Join(dir, "index"))
	first, look, err := x.Sum(file)
	require.NoError(t, err)

	k := x.known[file]
	lie := Sum{1}
	for _, c := range []struct {
		at    time.Duration // from the file's last change to the reading
		known Sum
	}{{sameTick / 2, first}, {sameTick, first}, {sameTick + 1, lie}} {
		x.known[file] = known{Look: k.Look, At: look.LastChange() + int64(c.at), Sum: lie}
		sum, _, err := x.Sum(file)
		require.NoError(t, err)
		assert.Equal(t, c.known, sum, c.at)
	}

	x.known[file] = known{Look: k.Look, At: look.LastChange() + int64(time.Hour), Sum: lie}
	before, err := os.Stat(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, []byte("b"), 0o600))
	require.NoError(t, os.Chtimes(file, before.ModTime(), before.ModTime()))
	sum, _, err := x.Sum(file)
	require.NoError(t, err)
	assert.NotContains(t, []Sum{lie, first}, sum, "its size and time are the same, but it was written")

	require.NoError(t, os.Remove(file))
	_, _, err = x.Sum(file)
	require.ErrorIs(t, err, os.ErrNotExist)
	require.NoError(t, x.Save())
	assert.Empty(t, x.known, "what is gone is not kept")
}

// BenchmarkIndex hashes 100,000 files of 4 kB: all of them new, all of them known, and, for comparison, in a program
// that does nothing else.
func BenchmarkIndex(b *testing.B) {
	dir := b.TempDir()
	files := make([]string, 100_000)
	for i := range files {
		files[i] = filepath.Join(dir, fmt.Sprint(i%100), fmt.Sprint(i))
		require.NoError(b, os.MkdirAll(filepath.Dir(files[i]), 0o700))
		require.NoError(
			b,
			os.WriteFile(files[i], []byte(strings.Repeat(fmt.Sprintln(i), 4096/len(fmt.Sprintln(i)))), 0o600),
		)
	}
	sums := func(b *testing.B, x *Index) {
		for _, file := range files {
			_, _, err := x.Sum(file)
			require.NoError(b, err)
		}
	}
	kept := filepath.Join(dir, "index")
	time.Sleep(2 * sameTick) // so that all of them are old enough to be trusted
	b.Run("new", func(b *testing.B) {
		for b.Loop() {
			x := OpenIndex(kept + ".new")
			sums(b, x)
			require.NoError(b, x.Save())
			require.NoError(b, os.Rename(x.file, kept))
		}
	})
	b.Run("known", func(b *testing.B) {
		for b.Loop() {
			sums(b, OpenIndex(kept))
		}
	})
	b.Run("sha256sum", func(b *testing.B) {
		for b.Loop() {
			sha256sum(b, dir)
		}
	})
}

func sha256sum(b *testing.B, dir string) {
	command := exec.Command("sh", "-c", "find . -type f -print0 | xargs -0 taskset -c 0 sha256sum >/dev/null")
	command.Dir = dir
	require.NoError(b, command.Run())
}

// TestKeyIsTheSameElsewhere makes a result in two directories: their keys are the same, so that one can be used for the
// other.
func TestKeyIsTheSameElsewhere(t *testing.T) {
	var keys [2]string
	for i := range keys {
		_, a := open(t).begin()
		keys[i] = a.needed
	}
	assert.Equal(t, keys[0], keys[1])
}
