package watch

import "omnivigil/internal/watch/pattern"

import "omnivigil/internal/watch/repository"

import (
	"fmt"
	"io/fs"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"omnivigil/internal/files"
	"omnivigil/internal/watch/kernel"
)

// TestRandomTree does everything that people and tools do to files, in any order and as fast as it can, and listens.
// A reader of exactly the reported files must know, at every quiet moment, the contents of the whole tree.
//
// OMNIVIGIL_OPERATIONS sets the number of operations; OMNIVIGIL_SEED repeats a run.
func TestRandomTree(t *testing.T) {
	operations := 6000
	if n, err := strconv.Atoi(os.Getenv("OMNIVIGIL_OPERATIONS")); err == nil {
		operations = n
	}
	seed := uint64(time.Now().UnixNano())
	if n, err := strconv.ParseUint(os.Getenv("OMNIVIGIL_SEED"), 10, 64); err == nil {
		seed = n
	}
	for _, mode := range []struct {
		name  string
		share int // of the operations, in tenths
		poll  time.Duration
		lossy bool
	}{
		{"told", 6, 0, false},
		{"told with losses", 3, 0, true},
		{"looked at", 1, 20 * time.Millisecond, false},
	} {
		t.Run(mode.name, func(t *testing.T) {
			t.Parallel()
			t.Logf("seed %d", seed)
			d := newDriver(t, rand.New(rand.NewPCG(seed, 1)), mode.poll, mode.lossy)
			for want := operations * mode.share / 10; d.done < want && !t.Failed(); {
				d.operateAndCompare()
			}
			t.Logf("%d operations, %d quiet moments, %d hits", d.done, d.pollGroups, d.hits)
		})
	}
}

// treeDriver performs operations in a tree and keeps a reader's copy of it.
type treeDriver struct {
	t                *testing.T
	r                *rand.Rand
	root             string
	w                *Watcher
	copy             map[string]string // by path, the contents that the reader has read
	pause            time.Duration     // how long to wait for events where none are expected
	done, pollGroups int
	hits             int
	serial           int
	lossy            *lossyKernel
	rules            bool // ignore files were edited in this round
	unlisted         bool // more files were reported than listed, so that a reader has to read all
	log              []string
}

// lossyKernel loses notices and reports that.
type lossyKernel struct {
	kernel.Source
	out  chan []kernel.Notice
	last atomic.Int64 // time of its last notice, nanoseconds since 1970
}

func newLossyKernel(t *testing.T, r *rand.Rand) *lossyKernel {
	k, err := kernel.Open()
	require.NoError(t, err)
	l := &lossyKernel{Source: k, out: make(chan []kernel.Notice)}
	go func() {
		defer close(l.out)
		for batch := range k.Batches() {
			if r.IntN(4) == 0 {
				batch = append(batch[:r.IntN(len(batch))], kernel.Notice{What: kernel.Overflowed})
			}
			l.last.Store(math.MaxInt64) // not delivered yet
			l.out <- batch
			l.last.Store(time.Now().UnixNano())
		}
	}()
	return l
}

func (k *lossyKernel) Batches() <-chan []kernel.Notice { return k.out }

func (k *lossyKernel) CatchUp() func() bool { return k.Quiet }

func (k *lossyKernel) Quiet() bool { return k.Source.Quiet() && len(k.Source.Batches()) == 0 }

const bell = "bell.ring"

func newDriver(t *testing.T, r *rand.Rand, poll time.Duration, lossy bool) *treeDriver {
	d := &treeDriver{
		t:     t,
		r:     r,
		root:  filepath.Join(t.TempDir(), "deep/enough/for/links/that/lead/up/and/out"),
		copy:  map[string]string{},
		pause: 35 * time.Millisecond,
	}
	require.NoError(t, os.MkdirAll(filepath.Join(d.root, ".git"), 0o755))
	var err error
	if lossy {
		d.lossy = newLossyKernel(t, rand.New(rand.NewPCG(r.Uint64(), 2)))
		d.w = newWatcher(d.root, 0, d.lossy, time.Now)
	} else if d.w, err = Open(d.root, 0); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(d.w.Close)
	if poll > 0 {
		d.pause = 250 * time.Millisecond
	}
	d.w.SetInterests([]pattern.Interest{
		{Key: "all", Rules: rules("**/*.txt"), Debounce: 4 * time.Millisecond, Unignored: true, Poll: poll},
		{Key: "clean", Rules: rules("**/*.txt"), Debounce: 4 * time.Millisecond, Poll: poll},
		{Key: "bell", Rules: rules(bell), Debounce: d.pause, Unignored: true, Poll: poll},
	}, 0)
	awaitWatching(d.w, 0)
	return d
}

// awaitWatching waits until the interests with that number are being watched.
func awaitWatching(w *Watcher, number int) {
	for ev := range w.Events() {
		if ev == (Watching{number}) {
			return
		}
	}
}

func pick[T any](r *rand.Rand, from ...T) T { return from[r.IntN(len(from))] }

// operateAndCompare performs some operations, waits for quiet and compares.
func (d *treeDriver) operateAndCompare() {
	d.log, d.rules, d.unlisted = nil, false, false
	n := 1 + d.r.IntN(pick(d.r, 6, 40, 250, 1000))
	harmless := d.r.IntN(20) == 0
	for range n {
		if d.r.IntN(40) == 0 {
			time.Sleep(time.Duration(d.r.IntN(4)) * time.Millisecond) // so that some are reported in between
		}
		if harmless {
			d.harmless()
		} else {
			d.operate()
		}
		d.done++
	}
	heard := d.quiet()
	d.pollGroups++
	d.hits += len(heard["all"])
	if harmless && d.lossy == nil { // after a loss, a file that was seen while it changed is reported again
		require.Empty(d.t, heard, "nothing was changed: %s", d.log)
	}
	there := d.tree()
	if d.unlisted {
		d.copy = there
	} else {
		d.compare(heard, there)
	}
	if len(there) > 300 {
		d.prune()
	}
}

// compare compares the reader's copy, after reading the reported files, with the tree.
func (d *treeDriver) compare(heard map[string]map[string]bool, there map[string]string) {
	d.t.Helper()
	for path := range heard["all"] {
		if text, ok := there[path]; ok {
			d.copy[path] = text
		} else {
			delete(d.copy, path)
		}
	}
	if len(there) != len(d.copy) {
		d.differ(there)
	}
	for path, text := range there {
		if d.copy[path] != text {
			d.differ(there)
		}
	}
	d.compareClean(heard, there)
}

// prune keeps the tree from growing without limit.
func (d *treeDriver) prune() {
	for _, dir := range []string{"a", "b"} {
		os.RemoveAll(filepath.Join(d.root, dir))
	}
}

func (d *treeDriver) differ(there map[string]string) {
	d.t.Helper()
	for path, text := range there {
		if have, ok := d.copy[path]; have != text {
			d.t.Errorf("%s holds %q, the reader has %q (%t)", path, text, have, ok)
		}
	}
	for path := range d.copy {
		if _, ok := there[path]; !ok {
			d.t.Errorf("%s is gone, the reader has it", path)
		}
	}
	d.t.Fatalf("operations:\n%s", strings.Join(d.log, "\n"))
}

// compareClean checks that an interest that excludes files ignored by version control hears of all other files, and
// only of those.
func (d *treeDriver) compareClean(heard map[string]map[string]bool, there map[string]string) {
	if d.rules {
		return
	}
	for path := range heard["all"] {
		_, exists := there[path]
		resolved, err := filepath.EvalSymlinks(filepath.Join(d.root, path))
		if !exists || err != nil || resolved != filepath.Join(d.root, path) {
			continue
		}
		out := new(repository.Rules).ExcludedBy(filepath.Join(d.root, path))
		if (out == "") != heard["clean"][path] {
			d.t.Fatalf(
				"%s is kept out by %q, and heard of: %t; all heard %v\n%s",
				path,
				out,
				heard["clean"][path],
				heard,
				strings.Join(d.log, "\n"),
			)
		}
	}
}

// quiet returns what is reported until everything is at rest: until two bells arrive with nothing in between. A scan
// may see the bell before earlier changes elsewhere, and changes that come to rest with the bell may be reported
// after it.
func (d *treeDriver) quiet() map[string]map[string]bool {
	heard := map[string]map[string]bool{}
	for d.lossy != nil && time.Now().UnixNano()-d.lossy.last.Load() < int64(200*time.Millisecond) {
		d.hear(
			heard,
			time.After(10*time.Millisecond),
		) // after a loss, the bell would be seen before everything that came first
	}
	for calm := 0; calm < 2; calm++ {
		before := size(heard)
		d.serial++
		d.must(os.WriteFile(filepath.Join(d.root, bell), []byte(strconv.Itoa(d.serial)), 0o644))
		if d.listen(heard); size(heard) != before {
			calm = 0
		}
	}
	return heard
}

func size(heard map[string]map[string]bool) int {
	n := 0
	for _, paths := range heard {
		n += len(paths)
	}
	return n
}

// listen collects reports until the bell arrives.
func (d *treeDriver) listen(heard map[string]map[string]bool) {
	for limit := time.After(20 * time.Second); ; {
		switch rang, late := d.hear(heard, limit); {
		case rang:
			return
		case late:
			d.t.Fatalf("the bell was not heard:\n%s", strings.Join(d.log, "\n"))
		}
	}
}

// hear collects the next report that arrives before the limit.
func (d *treeDriver) hear(heard map[string]map[string]bool, limit <-chan time.Time) (rang, late bool) {
	select {
	case ev := <-d.w.Events():
		c, _ := ev.(Change)
		for _, h := range c.Hits {
			if h.Key == "bell" {
				rang = true
				continue
			}
			if heard[h.Key] == nil {
				heard[h.Key] = map[string]bool{}
			}
			heard[h.Key][h.Path] = true
			d.unlisted = d.unlisted || h.More > 0
		}
	case <-limit:
		late = true
	}
	return rang, late
}

func (d *treeDriver) must(err error) {
	if err != nil && !os.IsNotExist(err) && !os.IsExist(err) {
		d.log = append(d.log, "  "+err.Error())
	}
}

// tree reads all files, through symbolic links as far as they are followed.
func (d *treeDriver) tree() map[string]string {
	all := map[string]string{}
	d.readInto(all, d.root, "", 0, nil)
	return all
}

func (d *treeDriver) readInto(all map[string]string, dir, rel string, depth int, above []fs.FileInfo) {
	info, err := os.Stat(dir)
	if err != nil {
		return
	}
	for _, a := range above {
		if os.SameFile(a, info) {
			return
		}
	}
	above = append(above[:len(above):len(above)], info)
	entries, _ := os.ReadDir(dir)
	for _, e := range entries {
		file, at := filepath.Join(dir, e.Name()), filepath.Join(rel, e.Name())
		info, err := os.Stat(file)
		link := e.Type()&fs.ModeSymlink != 0
		switch {
		case err != nil:
		case info.IsDir() && link && depth == maxDepth:
		case info.IsDir() && link:
			d.readInto(all, file, at, depth+1, above)
		case info.IsDir():
			d.readInto(all, file, at, depth, above)
		case strings.HasSuffix(at, ".txt"):
			text, _ := os.ReadFile(file)
			all[at] = string(text)
		}
	}
}

// folder returns a random directory that may exist.
func (d *treeDriver) folder() string {
	parts := []string{d.root}
	for range d.r.IntN(4) {
		parts = append(parts, string(rune('a'+d.r.IntN(2))))
	}
	return filepath.Join(parts...)
}

func (d *treeDriver) file() string {
	return filepath.Join(d.folder(), string(rune('x'+d.r.IntN(3)))+".txt")
}

func (d *treeDriver) text() []byte {
	d.serial++
	return fmt.Appendf(nil, "%06d", d.serial)
}

// harmless makes a change that affects no file's contents.
func (d *treeDriver) harmless() {
	file := d.file()
	switch d.r.IntN(4) {
	case 0:
		os.ReadFile(file)
	case 1:
		os.ReadDir(filepath.Dir(file))
	case 2:
		d.log = append(d.log, "chmod "+file)
		os.Chmod(file, fs.FileMode(0o600|d.r.IntN(0o100)))
	case 3:
		d.log = append(d.log, "open for writing "+file)
		if f, err := os.OpenFile(file, os.O_WRONLY, 0); err == nil {
			f.Close()
		}
	}
}

// operate performs one of the operations of people and tools.
func (d *treeDriver) operate() {
	file, other, dir, text := d.file(), d.file(), d.folder(), d.text()
	if dir == d.root {
		dir = filepath.Join(d.root, "a")
	}
	say := func(what ...string) {
		line := strings.ReplaceAll(strings.Join(what, " "), d.root+"/", "")
		d.log = append(d.log, fmt.Sprintf("%s %s", text, line))
	}
	switch d.r.IntN(22) {
	case 0, 1, 2, 3:
		say("write", file)
		d.must(os.WriteFile(file, text, 0o644))
	case 4:
		say("append", file)
		if f, err := os.OpenFile(file, os.O_APPEND|os.O_WRONLY, 0); err == nil {
			f.Write(text)
			f.Close()
		}
	case 5, 6:
		say("write to the side and rename", file)
		d.must(os.WriteFile(file+".new", text, 0o644))
		d.must(os.Rename(file+".new", file))
	case 7:
		say("back up and write", file)
		d.must(os.Rename(file, file+"~"))
		d.must(os.WriteFile(file, text, 0o644))
	case 8:
		say("delete and write", file)
		d.must(os.Remove(file))
		d.must(os.WriteFile(file, text, 0o644))
	case 9:
		say("delete", file)
		d.must(os.Remove(file))
	case 10, 11, 12:
		say("make directories and write", file)
		d.must(os.MkdirAll(filepath.Dir(file), 0o755))
		d.must(os.WriteFile(file, text, 0o644))
	case 13:
		say("rename", file, other)
		d.must(os.Rename(file, other))
	case 14:
		to := filepath.Join(d.folder(), string(rune('a'+d.r.IntN(2))))
		d.rules = true // it may contain ignore files
		say("rename directory", dir, to)
		d.must(os.Rename(dir, to))
	case 15:
		d.rules = true
		say("delete directory", dir)
		d.must(os.RemoveAll(dir))
	case 16:
		to := filepath.Join(d.folder(), string(rune('a'+d.r.IntN(2))))
		d.rules = true
		say("copy directory", dir, to)
		if !d.holds(dir, to) && !d.holds(dir, files.Existing(filepath.Dir(to))) {
			d.must(os.CopyFS(to, os.DirFS(dir)))
		}
	case 17:
		say("hard link", file, other)
		d.must(os.Link(file, other))
	case 18:
		say("symbolic link", file, other)
		os.Remove(other)
		d.must(os.Symlink(d.target(file, filepath.Dir(other)), other))
	case 19:
		to := filepath.Join(d.folder(), string(rune('a'+d.r.IntN(2))))
		say("symbolic link to directory", dir, to)
		d.must(os.Symlink(d.target(dir, filepath.Dir(to)), to))
	case 20:
		say("touch", file)
		now := time.Now()
		d.must(os.Chtimes(file, now, now))
	case 21:
		d.rules = true
		rules := []string{"a/", "x.txt", "!x.txt", "/b", "*.txt", "!z.txt", "b/*", "!/b/y.txt"}
		d.r.Shuffle(len(rules), func(i, j int) { rules[i], rules[j] = rules[j], rules[i] })
		at := filepath.Join(d.folder(), repository.IgnoreFile)
		say("ignore", strings.Join(rules[:d.r.IntN(4)], " "), "in", at)
		d.must(os.WriteFile(at, []byte(strings.Join(rules[:d.r.IntN(4)], "\n")), 0o644))
	}
}

// holds reports whether a directory exists and is dir or inside it.
func (d *treeDriver) holds(dir, folder string) bool {
	in, err := filepath.EvalSymlinks(dir)
	resolved, missing := filepath.EvalSymlinks(folder)
	return err != nil || missing == nil && isBelow(resolved, in)
}

// target returns the path that a symbolic link in a directory stores.
func (d *treeDriver) target(path, from string) string {
	if rel, err := filepath.Rel(from, path); err == nil && d.r.IntN(2) == 0 {
		return rel
	}
	return path
}
