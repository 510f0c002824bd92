package watch

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/watch/kernel"
	"omnivigil/internal/watch/pattern"
	"omnivigil/internal/watch/stamp"
)

// folderWith creates a directory with these files.
func folderWith(t *testing.T, files ...string) string {
	t.Helper()
	root := t.TempDir()
	for _, f := range files {
		put(t, root, f)
	}
	return root
}

func put(t *testing.T, root, file string) {
	t.Helper()
	path := filepath.Join(root, file)
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(t, os.WriteFile(path, []byte(time.Now().String()), 0o644))
}

func rules(patterns ...string) []pattern.Rule {
	var all []pattern.Rule
	for _, p := range patterns {
		all = append(all, pattern.Rule{Pattern: p})
	}
	return all
}

// hearing is a watcher with a clock that the test advances: however slow the machine, files come to rest when the
// test says so.
type hearing struct {
	*Watcher
	root  string
	ahead atomic.Int64 // of the system's clock, in nanoseconds
	rings int
}

// debounce is longer than any test takes.
const debounce = time.Hour

// ring is the interest by which a test knows that everything was reported: notices arrive in order.
const ring = "ring"

func open(t *testing.T, root string, interests ...pattern.Interest) *hearing {
	t.Helper()
	k, err := kernel.Open()
	require.NoError(t, err)
	l := &hearing{root: root}
	l.Watcher = newWatcher(
		filepath.ToSlash(root),
		0,
		k,
		func() time.Time { return time.Now().Add(time.Duration(l.ahead.Load())) },
	)
	t.Cleanup(l.Close)
	l.want(0, interests...)
	require.Equal(t, Watching{0}, <-l.Events())
	return l
}

// awaitIdle waits until the watcher has done the work that it does when nothing happens, such as reading the contents
// of files that skip_unchanged compares with.
func (l *hearing) awaitIdle(t *testing.T) {
	t.Helper()
	require.Eventually(t, func() bool {
		idle := make(chan bool)
		l.asked <- func() { idle <- l.sleep() > 0 }
		return <-idle
	}, time.Minute, time.Millisecond)
}

// want sets interests, and adds ring.
func (l *hearing) want(number int, interests ...pattern.Interest) {
	l.SetInterests(append(interests, pattern.Interest{Key: ring, Rules: rules("ring-*"), Unignored: true}), number)
}

// next waits for the next event, but not forever.
func (l *hearing) next(t *testing.T) Event {
	t.Helper()
	select {
	case ev := <-l.Events():
		return ev
	case <-time.After(time.Minute):
		t.Fatal("no event")
		return nil
	}
}

// settle waits until everything has been noticed, lets it come to rest, and returns the reports without those of
// ring.
func (l *hearing) settle(t *testing.T) (told []Event) {
	t.Helper()
	heard := func() {
		l.rings++
		name := fmt.Sprintf("ring-%d", l.rings)
		// Moved into place, so that it causes a single notice.
		made := filepath.Join(t.TempDir(), name)
		require.NoError(t, os.WriteFile(made, nil, 0o644))
		require.NoError(t, os.Rename(made, filepath.Join(l.root, name)))
		for {
			ev := l.next(t)
			c, isChange := ev.(Change)
			rang := slices.ContainsFunc(c.Hits, func(h Hit) bool { return h.Key == ring && h.Path == name })
			c.Hits = slices.DeleteFunc(c.Hits, func(h Hit) bool { return h.Key == ring })
			switch {
			case !isChange:
				told = append(told, ev)
			case len(c.Hits) > 0:
				told = append(told, c)
			}
			if rang {
				return
			}
		}
	}
	heard()
	time.Sleep(2 * stamp.SoonAfter) // a file younger than the resolution of its time is checked again
	l.ahead.Add(int64(2 * debounce))
	heard() // which wakes it
	return told
}

// change lets the operation come to rest and returns the hits of its only change, as "key path what".
func change(t *testing.T, l *hearing) []string {
	t.Helper()
	var hits []string
	changes := 0
	for _, ev := range l.settle(t) {
		if c, ok := ev.(Change); ok {
			changes++
			for _, h := range c.Hits {
				hits = append(hits, h.Key+" "+h.Path+" "+h.What)
			}
		}
	}
	require.Equal(t, 1, changes, "%q", hits)
	return hits
}

func TestChanges(t *testing.T) {
	berths := pattern.Interest{
		Key:      "berths",
		Rules:    rules("cmd/berths/**/*.go", "internal"),
		Ignore:   []string{"**/*_test.go", "internal/gen"},
		Debounce: debounce,
	}
	pages := pattern.Interest{Key: "pages", Rules: rules("web/**/*.{html,css}"), Debounce: debounce}
	start := []string{"cmd/berths/main.go", "internal/tide/tide.go", "internal/gen/x.go", "web/index.html"}
	for _, test := range []struct {
		name string
		do   func(t *testing.T, root string)
		want []string
	}{
		{"written", func(t *testing.T, root string) { put(t, root, "cmd/berths/main.go") },
			[]string{"berths cmd/berths/main.go written"}},
		{"several at once are one change", func(t *testing.T, root string) {
			put(t, root, "internal/tide/tide.go")
			put(t, root, "web/index.html")
			put(t, root, "web/style.css")
		}, []string{"berths internal/tide/tide.go written", "pages web/index.html written",
			"pages web/style.css created"}},
		{"saved by renaming", func(t *testing.T, root string) {
			put(t, root, "web/.index.html.swp")
			require.NoError(t, os.WriteFile(filepath.Join(root, "web/new~"), []byte("x"), 0o644))
			require.NoError(t, os.Rename(filepath.Join(root, "web/new~"), filepath.Join(root, "web/index.html")))
		}, []string{"pages web/index.html written"}},
		{"deleted and made again", func(t *testing.T, root string) {
			require.NoError(t, os.Remove(filepath.Join(root, "web/index.html")))
			put(t, root, "web/index.html")
		}, []string{"pages web/index.html written"}},
		{"removed", func(t *testing.T, root string) {
			require.NoError(t, os.Remove(filepath.Join(root, "web/index.html")))
		}, []string{"pages web/index.html removed"}},
		{"a new directory with files in it", func(t *testing.T, root string) { put(t, root, "web/a/b/c/page.html") },
			[]string{"pages web/a/b/c/page.html created"}},
		{"a directory moved away", func(t *testing.T, root string) {
			require.NoError(t, os.Rename(filepath.Join(root, "internal/tide"), filepath.Join(root, "elsewhere")))
		}, []string{"berths internal/tide/tide.go removed"}},
		{"touched", func(t *testing.T, root string) {
			now := time.Now()
			require.NoError(t, os.Chtimes(filepath.Join(root, "web/index.html"), now, now))
		}, []string{"pages web/index.html written"}},
	} {
		t.Run(test.name, func(t *testing.T) {
			t.Parallel()
			root := folderWith(t, start...)
			w := open(t, root, berths, pages)
			// None of these concerns an interest; the change that follows would show them.
			put(t, root, "internal/gen/y.go")
			put(t, root, "internal/tide/tide_test.go")
			put(t, root, "README.md")
			put(t, root, ".git/index.html")
			test.do(t, root)
			assert.Equal(t, test.want, change(t, w))
		})
	}
}

func TestOnlyWhatPatternsReachIsWatched(t *testing.T) {
	root := folderWith(t, "web/pages/a.html", "web/node_modules/x/y/z.html", "docs/deep/er/x.md", "cmd/a/b/main.go")
	assert.ElementsMatch(t, []string{".", "web", "web/pages", "cmd", "cmd/a"}, watched(t, root,
		pattern.Interest{Key: "a", Rules: rules("web/**/*.html"), Ignore: []string{"**/node_modules"},
			Debounce: debounce},
		pattern.Interest{Key: "b", Rules: rules("cmd/*/*.go"), Debounce: debounce}))
}

// watched returns the directories that would be watched for the interests.
func watched(t *testing.T, root string, interests ...pattern.Interest) (dirs []string) {
	t.Helper()
	tr := newTree(root)
	k, err := kernel.Open()
	require.NoError(t, err)
	defer k.Close()
	tr.kernel = k
	tr.want(interests)
	tr.eachFolder(func(f *folder) {
		if f.watched {
			rel, _ := filepath.Rel(root, f.path)
			dirs = append(dirs, rel)
		}
	})
	return dirs
}

func TestBaseThatAppearsLater(t *testing.T) {
	root := folderWith(t, "README.md")
	w := open(t, root, pattern.Interest{Key: "gen", Rules: rules("build/out/*.json"), Debounce: debounce})
	put(t, root, "build/out/fares.json")
	assert.Equal(t, []string{"gen build/out/fares.json created"}, change(t, w))
}

func TestOddNames(t *testing.T) {
	root := filepath.Join(folderWith(t), "it's [a] {b}\nü *")
	require.NoError(t, os.Mkdir(root, 0o755))
	w := open(t, root, pattern.Interest{Key: "x", Rules: rules("*.txt"), Debounce: debounce})
	put(t, root, "a b.txt")
	assert.Equal(t, []string{"x a b.txt created"}, change(t, w))
}

// TestBursts tests the grouping with a simulated clock.
func TestBursts(t *testing.T) {
	b := newBursts()
	t0 := time.Unix(0, 0)
	at := func(ms int) time.Time { return t0.Add(time.Duration(ms) * time.Millisecond) }
	debounces := map[string]time.Duration{"quick": 0, "slow": 100 * time.Millisecond, "busy": 250 * time.Millisecond}
	add := func(ms int, keys ...string) []Touched {
		var hits []sighting
		for _, k := range keys {
			hits = append(hits, seenBy(k, k, "written"))
		}
		return b.add(at(ms), hits, func(key string) time.Duration { return debounces[key] })
	}
	keys := func(cs []rested) (out []string) {
		for _, c := range cs {
			for _, h := range c.Hits {
				out = append(out, h.Key)
			}
		}
		return
	}
	assert.Equal(t, []Touched{{1, []string{"quick", "slow"}, make([]time.Time, 2)}}, add(0, "quick", "slow"))
	assert.Equal(t, []string{"quick"}, keys(b.take(at(0), all)), "debounce 0 acts at once")
	assert.Equal(
		t,
		[]Touched{{2, []string{"quick"}, make([]time.Time, 1)}},
		add(10, "quick"),
		"a new burst for who has heard of the old one",
	)
	assert.Equal(t, []string{"quick"}, keys(b.take(at(10), all)))
	add(90, "slow")
	assert.Empty(t, b.take(at(150), all), "every event begins the debounce again")
	due, ok := b.next()
	assert.True(t, ok)
	assert.Equal(t, at(190), due)
	changes := b.take(at(190), all)
	assert.Equal(t, []string{"slow"}, keys(changes))
	assert.Equal(t, at(0), changes[0].Since)

	for ms := 1000; ms < 3400; ms += 200 {
		add(ms, "busy")
		assert.Empty(t, b.take(at(ms), all))
	}
	assert.Equal(
		t,
		[]string{"busy"},
		keys(b.take(at(3500), all)),
		"files that never rest are put off no longer than that",
	)
}

func seenBy(key, path, what string) sighting {
	return sighting{path: path, what: what, by: []heard{{key: key}}}
}

func all(string) func(string) bool { return nil }

// TestManyHits lists the files of a large change that require different commands, and counts the rest.
func TestManyHits(t *testing.T) {
	b := newBursts()
	for i := range 3 * maxListed {
		h := Hit{Key: "web", Path: fmt.Sprintf("%05d", i), What: "written"}
		if i%3 == 2 {
			h.Rule, h.Captures = 1, map[string]string{"area": fmt.Sprint(i % 9)}
		}
		b.add(
			time.Unix(0, 0),
			[]sighting{{path: h.Path, what: h.What, by: []heard{{"web", h.Rule, "", h.Captures}}}},
			func(string) time.Duration { return 0 },
		)
	}
	b.add(
		time.Unix(0, 0),
		[]sighting{seenBy("web", fmt.Sprintf("%05d", 3*maxListed-1), "removed")},
		func(string) time.Duration { return 0 },
	)
	differs := func(string) func(string) bool { return func(path string) bool { return path != "00000" } }
	c := b.take(time.Unix(1, 0), differs)[0]
	assert.Equal(t, 3*maxListed, c.Files)
	require.Len(t, c.Hits, maxListed+4)
	count := map[string]int{}
	for _, h := range c.Hits {
		count[fmt.Sprint(h.Rule, h.Captures)] += 1 + h.More
	}
	// One of the first files is unchanged, and the last, which matched another rule, has been removed.
	assert.Equal(
		t,
		map[string]int{
			"0 map[]":       2 * maxListed,
			"1 map[area:2]": maxListed / 3,
			"1 map[area:5]": maxListed / 3,
			"1 map[area:8]": maxListed/3 - 1,
		},
		count,
	)
	assert.Equal(t, "00001", c.Hits[0].Path, "in order")
}

// TestHalfWritten treats a file that its writer has not closed as at rest only after it has been quiet for a moment.
func TestHalfWritten(t *testing.T) {
	b := newBursts()
	at := func(ms int) time.Time { return time.Unix(0, 0).Add(time.Duration(ms) * time.Millisecond) }
	write := func(ms int) {
		s := seenBy("now", "a.txt", "written")
		s.writing = true
		b.add(at(ms), []sighting{s}, func(string) time.Duration { return 0 })
	}
	write(0)
	assert.Empty(t, b.take(at(0), all))
	write(20)
	assert.Empty(t, b.take(at(40), all), "it was written once more")
	b.closed("a.txt")
	assert.Len(t, b.take(at(40), all), 1, "its writer has closed it")
	write(100)
	assert.Empty(t, b.take(at(124), all))
	assert.Len(t, b.take(at(125), all), 1, "it has been quiet")
}

// TestFolds combines the operations on one path within a change. A file that appears and disappears again is not
// reported.
func TestFolds(t *testing.T) {
	for _, test := range []struct{ happens, want string }{
		{"created written", "created"},
		{"removed created", "written"},
		{"written removed", "removed"},
		{"created removed", ""},
		{"created removed created", "created"},
		{"created removed created removed", ""},
		{"removed created removed", "removed"},
	} {
		g := newGroup("", 0, time.Time{}, 0)
		for _, what := range strings.Fields(test.happens) {
			g.add(&sighting{path: "x", what: what}, &heard{}, 0)
		}
		assert.Equal(t, test.want, whatNames[g.hits[0].what], test.happens)
	}
}

func TestWants(t *testing.T) {
	for _, test := range []struct {
		pattern, dir string
		want         bool
	}{
		{"cmd/*/*.go", "/r/cmd", true}, {"cmd/*/*.go", "/r/cmd/a", true}, {"cmd/*/*.go", "/r/cmd/a/b", false},
		{"cmd/**/*.go", "/r/cmd/a/b", true}, {"{cmd,web/x}/*.go", "/r/web", true},
		{"{cmd,web/x}/*.go", "/r/docs", false},
		{"*.go", "/r", true}, {"*.go", "/r/a", false}, {"../lib/**", "/lib/x", true}, {"../lib/**", "/r", false},
		{"web", "/r/web/a", true}, {"we*", "/r/web", false}, {"we*/", "/r/web/a", true},
	} {
		m := pattern.NewMatcher("/r", []pattern.Interest{{Rules: rules(test.pattern)}})
		assert.Equal(t, test.want, m.Wants(m.At(test.dir), false), "%s wants %s", test.pattern, test.dir)
	}
}

func TestCaptures(t *testing.T) {
	for _, test := range []struct {
		pattern, path string
		want          map[string]string
	}{
		{"internal/{area}/*.go", "/r/internal/tide/x.go", map[string]string{"area": "tide"}},
		{"internal/{area}/*.go", "/r/internal/tide/deep/x.go", nil},
		{"web/{rest...}/page.html", "/r/web/a/b/page.html", map[string]string{"rest": "a/b"}},
		{"web/{rest...}/page.html", "/r/web/page.html", map[string]string{"rest": ""}},
		{"{kind}/{name...}", "/r/cases/a/b.txt", map[string]string{"kind": "cases", "name": "a/b.txt"}},
		{"{a,b}/{name}.{go,js}", "/r/b/x.js", map[string]string{"name": "x"}},
		{"[a-c]?/{name}[!0-9].txt", "/r/bz/note.txt", map[string]string{"name": "not"}},
	} {
		p := pattern.Compile("/r", test.pattern)
		require.Equal(t, test.want != nil, p.Match(test.path), "%s matches %s", test.pattern, test.path)
		if test.want != nil {
			assert.Equal(t, test.want, p.Capture(test.path), test.pattern)
		}
	}
}

func TestSetInterests(t *testing.T) {
	root := folderWith(t, "a/x.txt", "b/y.txt")
	w := open(t, root, pattern.Interest{Key: "a", Rules: rules("a/*.txt"), Debounce: debounce})
	w.want(1, pattern.Interest{Key: "b", Rules: rules("b/*.txt"), Debounce: debounce})
	require.Equal(t, Watching{1}, <-w.Events())
	put(t, root, "a/x.txt")
	put(t, root, "b/y.txt")
	assert.Equal(t, []string{"b b/y.txt written"}, change(t, w))
}

// TestLastInterestsCount edits the interests faster than the watcher can follow.
func TestLastInterestsCount(t *testing.T) {
	const edits = 50
	root := folderWith(t)
	for n := range edits + 1 {
		put(t, root, fmt.Sprintf("%d/x.txt", n))
	}
	w := open(t, root)
	for n := 1; n <= edits; n++ {
		w.want(n, pattern.Interest{Key: "x", Rules: rules(fmt.Sprintf("%d/*.txt", n)), Debounce: debounce})
	}
	for ev := range w.Events() {
		if ev == (Watching{edits}) {
			break
		}
	}
	put(t, root, "1/x.txt")
	put(t, root, fmt.Sprintf("%d/x.txt", edits))
	assert.Equal(t, []string{fmt.Sprintf("x %d/x.txt written", edits)}, change(t, w))
}

// TestTouchedIsFollowedByChange edits the interests while files are being written: a listener that was told that
// files are being written is also told when they are at rest.
func TestTouchedIsFollowedByChange(t *testing.T) {
	root := folderWith(t, "a/x.txt", "b/y.txt")
	const long = debounce
	w := open(
		t,
		root,
		pattern.Interest{Key: "goes", Rules: rules("a/*"), Debounce: long},
		pattern.Interest{Key: "stays", Rules: rules("b/*", "c/*"), Debounce: long},
	)
	put(t, root, "a/x.txt")
	put(t, root, "b/y.txt")
	for touched := map[string]bool{}; len(touched) < 2; {
		if ev, ok := (<-w.Events()).(Touched); ok {
			for _, key := range ev.Keys {
				touched[key] = true
			}
		}
	}
	w.want(1, pattern.Interest{Key: "stays", Rules: rules("c/*", "{name}/y.txt"), Debounce: long})
	told := map[string]Hit{}
	for _, ev := range w.settle(t) {
		if c, ok := ev.(Change); ok {
			for _, h := range c.Hits {
				told[h.Key] = h
			}
		}
	}
	assert.Equal(t, "a/x.txt", told["goes"].Path)
	assert.Equal(t, 1, told["stays"].Rule, "by the new rules")
	assert.Equal(t, map[string]string{"name": "b"}, told["stays"].Captures)
}

// FuzzTranslate checks the captures' regular expressions against plain globs: a pattern without captures must match
// the same paths in both ways.
func FuzzTranslate(f *testing.F) {
	f.Add("a/**/b*.{go,js}", "a/x/y/bc.go")
	f.Add("[a-c]?/**", "bz/q")
	f.Fuzz(func(t *testing.T, glob, path string) {
		// Classes, choices and escapes differ in what counts as broken syntax; "**" within an element and names with
		// line ends differ on purpose.
		if strings.ContainsAny(glob, "[]{}\\") || strings.ContainsAny(path, "\n") ||
			!utf8.ValidString(
				glob,
			) || !utf8.ValidString(path) || strings.Contains(strings.ReplaceAll("/"+glob+"/", "/**/", "//"), "**") {
			return
		}
		re, err := pattern.Translate(glob)
		require.NoError(t, err)
		want, err := doublestar.Match(glob, path)
		if err == nil {
			require.Equal(t, want, re.MatchString(path), "%q on %q", glob, path)
		}
	})
}

// TestSpare reports files that no other interest wants, within a bounded number of directories.
func TestSpare(t *testing.T) {
	root := folderWith(t, "app/a.go", "docs/deep/x.md", ".gitignore")
	w := open(
		t,
		root,
		pattern.Interest{Key: "app", Rules: rules("app/*.go"), Debounce: debounce},
		pattern.Interest{Key: "rest", Rules: rules("**"), Ignore: []string{"**/.*", "ring-*"}, Debounce: debounce,
			Spare: true},
	)
	put(t, root, "app/a.go")
	put(t, root, "app/b.txt")
	put(t, root, "docs/deep/x.md")
	assert.Equal(
		t,
		[]string{"app app/a.go written", "rest app/b.txt created", "rest docs/deep/x.md written"},
		change(t, w),
	)

	tr := newTree(root)
	for n := range 2 * maxSpares {
		put(t, root, fmt.Sprintf("many/%d/x.md", n))
	}
	tr.want([]pattern.Interest{{Key: "rest", Rules: rules("**"), Spare: true}})
	assert.Equal(t, maxSpares, tr.spares)
	tr.want([]pattern.Interest{{Key: "all", Rules: rules("**")}})
	assert.Zero(t, tr.spares, "they are wanted for their own sake")
	tr.want(nil)
	assert.Zero(t, tr.spares)
}

// TestCatchUp reports every write that was finished before the call before it returns: of existing files, in new
// directories and by renaming, with notices of the system and with polling.
func TestCatchUp(t *testing.T) {
	for name, poll := range map[string]time.Duration{"told": 0, "looked at": time.Hour} {
		t.Run(name, func(t *testing.T) {
			root := t.TempDir()
			w := open(t, root, pattern.Interest{Key: "all", Rules: rules("**/*.go"), Debounce: debounce, Poll: poll})
			for n := range 200 {
				switch n % 3 {
				case 0:
					put(t, root, "a.go")
				case 1:
					put(t, root, fmt.Sprintf("new-%d/b.go", n))
				case 2:
					require.NoError(t, os.Rename(filepath.Join(root, "a.go"), filepath.Join(root, "c.go")))
				}
				w.CatchUp(n)
				told := false
				for ev := w.next(t); ev != (CaughtUp{n}); ev = w.next(t) {
					touched, ok := ev.(Touched)
					told = told || ok && slices.Contains(touched.Keys, "all")
				}
				require.True(t, told, "write %d is not told", n)
			}
		})
	}
}

// lost is a kernel that soon stops reporting.
type lost struct{ kernel.Source }

func (lost) Batches() <-chan []kernel.Notice {
	none := make(chan []kernel.Notice)
	close(none)
	return none
}
func (lost) Failure() error { return errors.New("queue closed") }

// TestReaderEnds closes the events, with the reason, when the kernel stops reporting.
func TestReaderEnds(t *testing.T) {
	k, err := kernel.Open()
	require.NoError(t, err)
	w := newWatcher(filepath.ToSlash(t.TempDir()), 0, lost{k}, time.Now)
	defer w.Close()
	for range w.Events() {
	}
	assert.ErrorContains(t, w.Err(), "queue closed")
}
