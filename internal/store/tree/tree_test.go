package tree

import (
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/store/contents"
)

func TestCheck(t *testing.T) {
	file := func(p string) Entry { return Entry{Path: p, Kind: File, Mode: 0o644} }
	link := func(p, target string) Entry { return Entry{Path: p, Kind: Link, Target: target} }
	for name, test := range map[string]struct {
		tree    Tree
		problem string // empty: none
	}{
		"good": {
			Tree{file("a/b"), file("a/c"), link("a/d", "../e"), {Path: "f/g", Kind: Directory, Mode: 0o700}}, "",
		},
		"absolute":            {Tree{file("/etc/passwd")}, "not a path within"},
		"above":               {Tree{file("../a")}, "not a path within"},
		"above, later":        {Tree{file("a/../../b")}, "not a path within"},
		"itself":              {Tree{file(".")}, "not a path within"},
		"empty":               {Tree{file("")}, "not a path within"},
		"backslash":           {Tree{file(`a\..\b`)}, "not a path within"},
		"zero":                {Tree{file("a\x00b")}, "not a path within"},
		"setuid":              {Tree{{Path: "a", Kind: File, Mode: 0o755 | fs.ModeSetuid}}, "more than permissions"},
		"device":              {Tree{{Path: "a", Kind: "device"}}, "neither a file"},
		"negative":            {Tree{{Path: "a", Kind: File, Content: contents.Content{Size: -1}}}, "neither a file"},
		"case":                {Tree{file("a/B"), file("a/b")}, "only by case"},
		"case of directory":   {Tree{file("a/b"), file("A/c")}, "only by case"},
		"twice":               {Tree{file("a"), file("a")}, "twice"},
		"below a file":        {Tree{file("a"), file("a/b")}, "below a file"},
		"below a file, first": {Tree{file("a/b"), file("a")}, "below a file"},
		"below a link":        {Tree{link("a", "b"), file("a/c")}, "below a file"},
		"absolute link":       {Tree{link("a", "/etc")}, "outside"},
		"link above":          {Tree{link("a/b", "../../c")}, "outside"},
		"link to nothing":     {Tree{link("a", "")}, "outside"},
	} {
		t.Run(name, func(t *testing.T) {
			if err := test.tree.Check(); test.problem == "" {
				require.NoError(t, err)
			} else {
				require.ErrorContains(t, err, test.problem)
			}
		})
	}
}

// place is a directory with outputs.
type place struct {
	*testing.T
	root  string
	store *contents.Store
}

func newPlace(t *testing.T) place {
	return place{t, t.TempDir(), contents.In(t.TempDir(), contents.Limits{})}
}

func (p place) write(name, text string) {
	file := filepath.Join(p.root, name)
	require.NoError(p, os.MkdirAll(filepath.Dir(file), 0o755))
	require.NoError(p, os.WriteFile(file, []byte(text), 0o644))
}

// names are all files, links and empty directories.
func (p place) names() (names []string) {
	require.NoError(p, filepath.WalkDir(p.root, func(name string, e fs.DirEntry, err error) error {
		if inside, _ := os.ReadDir(name); !e.IsDir() || len(inside) == 0 {
			names = append(names, name)
		}
		return err
	}))
	return names
}

func (p place) capture() Tree {
	t, err := Capture(p.root, p.names(), p.store, nil, 0)
	require.NoError(p, err)
	return t
}

func (p place) restore(t Tree, remove ...string) (Done, error) {
	return Restoring{Root: p.root, Store: p.store, Remove: remove, Known: func(file string) (contents.Sum, bool) {
		data, err := os.ReadFile(file)
		return contents.SumOf(data), err == nil
	}}.Restore(t)
}

func TestRestore(t *testing.T) {
	p := newPlace(t)
	p.write("dist/app.js", "app")
	p.write("dist/lib/old.js", "first")
	p.write("dist/lib/new.js", "second")
	p.write("dist/run", "#!/bin/sh")
	require.NoError(t, os.Chmod(filepath.Join(p.root, "dist/run"), 0o751))
	require.NoError(t, os.Mkdir(filepath.Join(p.root, "dist/empty"), 0o700))
	require.NoError(t, os.Symlink("lib/new.js", filepath.Join(p.root, "dist/link")))
	old := time.Now().Add(-time.Hour)
	require.NoError(t, os.Chtimes(filepath.Join(p.root, "dist/lib/old.js"), old, old))
	want := p.capture()
	assert.Len(t, want, 6)

	done, err := p.restore(want)
	require.NoError(t, err)
	assert.Empty(t, done.Written, "all is as it should be")

	require.NoError(t, os.RemoveAll(filepath.Join(p.root, "dist")))
	done, err = p.restore(want)
	require.NoError(t, err)
	assert.Len(t, done.Written, 6)
	assert.Empty(t, want.Differences(p.capture()))
	first, err := os.Stat(filepath.Join(p.root, "dist/lib/old.js"))
	require.NoError(t, err)
	second, err := os.Stat(filepath.Join(p.root, "dist/lib/new.js"))
	require.NoError(t, err)
	assert.True(t, first.ModTime().Before(second.ModTime()), "in the order of their times")
	assert.WithinDuration(t, time.Now(), first.ModTime(), time.Minute)

	// What differs is replaced, and what an earlier run made is removed, but nothing else.
	p.write("dist/app.js", "other")
	p.write("dist/made/by/earlier.js", "x")
	p.write("dist/own.txt", "of the user")
	require.NoError(t, os.Remove(filepath.Join(p.root, "dist/link")))
	require.NoError(t, os.Remove(filepath.Join(p.root, "dist/empty")))
	p.write("dist/empty", "a file")
	done, err = p.restore(want, "dist/made/by/earlier.js", "dist/app.js", "dist/gone.js", "dist/empty", "../above")
	require.NoError(t, err)
	assert.ElementsMatch(t, []string{"dist/app.js", "dist/link", "dist/empty"}, done.Written)
	assert.Equal(t, []string{"dist/made/by/earlier.js", "dist/empty"}, done.Removed)
	assert.Equal(t, []string{"dist/own.txt"}, want.Differences(p.capture()))
	assert.NoDirExists(t, filepath.Join(p.root, "dist/made"))
}

// TestRestoreRefuses checks that nothing is changed if a tree cannot be restored, and nothing outside of the directory
// ever.
func TestRestoreRefuses(t *testing.T) {
	outside := t.TempDir()
	for name, test := range map[string]struct {
		prepare func(p place)
		problem string
	}{
		"a link on the way": {func(p place) {
			require.NoError(t, os.RemoveAll(filepath.Join(p.root, "dist")))
			require.NoError(t, os.Symlink(outside, filepath.Join(p.root, "dist")))
		}, "not a directory"},
		"a link within": {func(p place) {
			require.NoError(t, os.RemoveAll(filepath.Join(p.root, "dist")))
			require.NoError(t, os.Mkdir(filepath.Join(p.root, "other"), 0o755))
			require.NoError(t, os.Symlink("other", filepath.Join(p.root, "dist")))
		}, "not a directory"},
		"a file on the way": {func(p place) {
			require.NoError(t, os.RemoveAll(filepath.Join(p.root, "dist")))
			p.write("dist", "of the user")
		}, "not a directory"},
		"a directory of the user": {func(p place) {
			require.NoError(t, os.Remove(filepath.Join(p.root, "dist/app.js")))
			p.write("dist/app.js/readme", "of the user")
		}, "restore dist/app.js"},
		"a content is absent": {func(p place) {
			p.write("dist/app.js", "other")
			_, err := p.store.Clear()
			require.NoError(t, err)
		}, contents.ErrAbsent.Error()},
	} {
		t.Run(name, func(t *testing.T) {
			p := newPlace(t)
			p.write("dist/app.js", "app")
			want := p.capture()
			test.prepare(p)
			before := p.names()
			_, err := p.restore(want)
			require.ErrorContains(t, err, test.problem)
			assert.Equal(t, before, p.names())
			left, err := os.ReadDir(outside)
			require.NoError(t, err)
			assert.Empty(t, left)
		})
	}
}

func TestCaptureRefuses(t *testing.T) {
	for name, test := range map[string]struct {
		prepare func(p place) []string
		problem string
	}{
		"too large": {func(place) []string { return nil }, "at most 1 MB"},
		"outside":   {func(place) []string { return []string{t.TempDir()} }, "outside"},
		"gone":      {func(p place) []string { return []string{filepath.Join(p.root, "nothing")} }, "no such file"},
		"a link out": {func(p place) []string {
			require.NoError(t, os.Symlink("/etc", filepath.Join(p.root, "etc")))
			return nil
		}, "outside"},
		"a pipe": {func(p place) []string {
			require.NoError(t, exec.Command("mkfifo", filepath.Join(p.root, "pipe")).Run())
			return nil
		}, "neither a file"},
		"setuid": {func(p place) []string {
			p.write("program", "")
			require.NoError(t, os.Chmod(filepath.Join(p.root, "program"), 0o755|fs.ModeSetuid))
			return nil
		}, "more than permissions"},
	} {
		t.Run(name, func(t *testing.T) {
			p := newPlace(t)
			if name == "too large" {
				p.write("large", strings.Repeat("x", 1_100_000))
			}
			more := test.prepare(p)
			_, err := Capture(p.root, append(p.names(), more...), p.store, nil, 1_000_000)
			require.ErrorContains(t, err, test.problem)
		})
	}
}

// BenchmarkTree stores and restores 1 GB in 10,000 files, of which half can be compressed, and compares that with
// tar, zstd and cp. OMNIVIGIL_TREE names a directory for it, for another file system.
func BenchmarkTree(b *testing.B) {
	const files, size = 10_000, 100_000
	base := os.Getenv("OMNIVIGIL_TREE")
	if base == "" {
		base = b.TempDir()
	}
	dir, err := os.MkdirTemp(base, "tree")
	require.NoError(b, err)
	defer os.RemoveAll(dir)
	root := filepath.Join(dir, "root")
	random := rand.NewChaCha8([32]byte{7})
	var names []string
	data := make([]byte, size)
	for n := range files {
		name := filepath.Join(root, fmt.Sprint("d", n/100), fmt.Sprintf("f%d.js", n))
		require.NoError(b, os.MkdirAll(filepath.Dir(name), 0o755))
		random.Read(data)
		if n%2 == 0 {
			code := fmt.Sprintln("const", n)
			for i := 0; len(code) < size; i++ { // as text is
				code += fmt.Sprintf("\texport function %s%d(zone, child) { return rates[%d] * zone - %d; }\n",
					[]string{"fare", "tide", "berth"}[data[i]%3], data[i], data[i+1], data[i+2])
			}
			copy(data, code)
		}
		require.NoError(b, os.WriteFile(name, data, 0o644))
		names = append(names, name)
	}
	took := func(do func()) float64 {
		began := time.Now()
		do()
		return time.Since(began).Seconds()
	}
	run := func(command string) float64 {
		return took(func() { require.NoError(b, exec.Command("sh", "-c", command).Run()) })
	}
	var storing, tar, restoring, cp, clone float64
	var store *contents.Store
	for b.Loop() {
		tar += run("tar -C '" + root + "' -cf - . | zstd -1 -q > '" + dir + "/tar'")
		os.Remove(filepath.Join(dir, "tar"))
		os.RemoveAll(filepath.Join(dir, "store"))
		store = contents.In(filepath.Join(dir, "store"), contents.Limits{})
		var t Tree
		storing += took(func() {
			t, err = Capture(root, names, store, nil, 0)
			require.NoError(b, err)
		})
		cp += run("cp -a --reflink=never '" + root + "' '" + dir + "/cp'")
		clone += run("cp -a --reflink=auto '" + root + "' '" + dir + "/clone'")
		to := filepath.Join(dir, "to")
		require.NoError(b, os.Mkdir(to, 0o755))
		restoring += took(func() {
			unknown := func(string) (s contents.Sum, is bool) { return s, false }
			_, err := Restoring{Root: to, Store: store, Known: unknown}.Restore(t)
			require.NoError(b, err)
		})
		for _, one := range []string{"cp", "clone", "to"} {
			os.RemoveAll(filepath.Join(dir, one))
		}
	}
	u, err := store.Usage()
	require.NoError(b, err)
	b.ReportMetric(storing/tar, "of-tar-zstd")
	b.ReportMetric(restoring/cp, "of-cp")
	b.ReportMetric(clone/cp, "clone-of-cp")
	b.ReportMetric(storing/float64(b.N), "storing-s")
	b.ReportMetric(restoring/float64(b.N), "restoring-s")
	b.ReportMetric(float64(u.Bytes)/1e6, "stored-MB")
}
