package logbook

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func open(t testing.TB, limits ...Limits) *Book {
	t.Helper()
	o := Options{}
	for _, l := range limits {
		o.Limits = l
	}
	b := Open(filepath.Join(t.TempDir(), "20261125-080000.000"), o)
	t.Cleanup(func() { b.Close() })
	return b
}

// view is the visible part of a log.
func view(t testing.TB, log interface{ View() (*View, error) }) *View {
	t.Helper()
	v, err := log.View()
	require.NoError(t, err)
	return v
}

func texts(lines []Line) []string {
	all := []string{}
	for _, l := range lines {
		all = append(all, l.Text)
	}
	return all
}

// all returns every line of a view.
func all(t testing.TB, v *View) []Line {
	t.Helper()
	lines, err := v.Find(v.First(), false, int(v.End()-v.First()), nil, nil)
	require.NoError(t, err)
	require.Len(t, lines, int(v.End()-v.First()))
	return lines
}

// TestFind asks for parts of a log that is half in memory and half on disk, through the book and through a reader.
func TestFind(t *testing.T) {
	b := open(t)
	now := time.Date(2026, 11, 25, 8, 0, 0, 0, time.Local)
	b.SetClock(func() time.Time { return now })
	for i := range 1000 {
		now = now.Add(time.Second)
		b.Append(
			Entry{
				Unit:      []string{"tides", "berths"}[i%2],
				Run:       i / 10,
				Ripple:    i / 100,
				Stream:    Stream(i % 3),
				Tone:      Broken,
				Continues: i%5 == 1,
			},
			fmt.Sprintf("line %d", i),
		)
		if i == 500 {
			b.Flush()
		}
	}
	unit := func(name string) func(*Entry) bool { return func(e *Entry) bool { return e.Unit == name } }
	check := func(v *View) {
		lines, err := v.Find(500, false, 3, nil, nil)
		require.NoError(t, err)
		assert.Equal(t, []string{"line 500", "line 501", "line 502"}, texts(lines))
		want := Line{
			Number: 501,
			At:     now.Add(-498 * time.Second),
			Text:   "line 501",
			Entry:  Entry{Unit: "berths", Run: 50, Ripple: 5, Tone: Broken, Continues: true},
		}
		assert.True(t, want.At.Equal(lines[1].At))
		lines[1].At = want.At
		assert.Equal(t, want, lines[1])
		lines, err = v.Find(990, false, 3, unit("berths"), nil)
		require.NoError(t, err)
		assert.Equal(t, []string{"line 991", "line 993", "line 995"}, texts(lines))
		lines, err = v.Find(990, true, 2, unit("berths"), func(l *Line) bool { return strings.HasSuffix(l.Text, "7") })
		require.NoError(t, err)
		assert.Equal(t, []string{"line 977", "line 987"}, texts(lines))
		lines, err = v.Find(v.End(), true, 5, func(e *Entry) bool { return e.Run == 3 }, nil)
		require.NoError(t, err)
		assert.Equal(t, []string{"line 35", "line 36", "line 37", "line 38", "line 39"}, texts(lines))
		lines, err = v.Find(0, false, 5, unit("nobody"), nil)
		require.NoError(t, err)
		assert.Empty(t, lines)
		for back, want := range map[time.Duration]int64{0: 999, 999 * time.Second: 0, 200*time.Second + 1: 799,
			-time.Second: 1000} {
			at, err := v.At(now.Add(-back))
			require.NoError(t, err)
			assert.Equal(t, want, at, "%v before", back)
		}
	}
	check(view(t, b))
	b.Flush()
	check(view(t, b))
	check(view(t, Read(b.Dir(), false)))

	now = time.Unix(1e9, 0) // the clock was set back
	b.Append(Entry{Unit: "tides"}, "late")
	lines, err := view(t, b).Find(999, false, 2, nil, nil)
	require.NoError(t, err)
	assert.Equal(t, lines[0].At, lines[1].At)
}

// TestText checks that the files are useful with nothing but grep.
func TestText(t *testing.T) {
	b := open(t)
	now := time.Date(2026, 11, 25, 23, 59, 59, 5e6, time.Local)
	b.SetClock(func() time.Time { return now })
	b.Append(Entry{Unit: "tides"}, "high", "\x1b[31mlow\x1b[0m")
	b.Append(Entry{Stream: Note}, "ripple 1: current")
	b.Append(Entry{Unit: "a-very-long-name", Stream: Ends}, "run 1 ended")
	now = now.Add(time.Second)
	b.Append(Entry{Unit: "tides"}, "")
	require.NoError(t, b.Close())
	for name, want := range map[string]string{
		"0001-2026-11-25.log": "23:59:59.005 tides      high\n23:59:59.005 tides      \x1b[31mlow\x1b[0m\n" +
			"23:59:59.005 omnivigil  ripple 1: current\n23:59:59.005 omnivigil  a-very-long-name run 1 ended\n",
		"0002-2026-11-26.log": "00:00:00.005 tides      \n",
	} {
		text, err := os.ReadFile(filepath.Join(b.Dir(), name))
		require.NoError(t, err)
		assert.Equal(t, want, string(text))
	}
	assert.Equal(
		t,
		[]string{"high", "\x1b[31mlow\x1b[0m", "ripple 1: current", "run 1 ended", ""},
		texts(all(t, view(t, Read(b.Dir(), true)))),
	)
}

// TestManyWritersLoseNothing writes while others read, in this process and as another process would.
func TestManyWritersLoseNothing(t *testing.T) {
	b := open(t)
	const writers, each = 20, 2000
	var writing sync.WaitGroup
	for w := range writers {
		writing.Go(func() {
			for i := range each {
				b.Append(
					Entry{Unit: fmt.Sprint("unit-", w)},
					fmt.Sprintf("%d %s", i, strings.Repeat("x", i%100)),
					"and",
				)
			}
		})
	}
	done := make(chan struct{})
	var reading sync.WaitGroup
	for _, log := range []interface{ View() (*View, error) }{b, Read(b.Dir(), false)} {
		reading.Go(func() {
			for {
				var over bool
				select {
				case <-done:
					over = true
				default:
				}
				v, err := log.View()
				if assert.NoError(t, err); err != nil {
					return
				}
				next := inOrder(t, v)
				if over {
					assert.Equal(t, slices.Repeat([]int{each}, writers), next)
					return
				}
			}
		})
	}
	writing.Wait()
	b.Flush()
	close(done)
	reading.Wait()
	require.NoError(t, b.Err())
	assert.EqualValues(t, 2*writers*each, b.Published())
}

// inOrder requires that each writer's lines are in order, and returns how many there are.
func inOrder(t *testing.T, v *View) []int {
	next := make([]int, 20)
	err := v.Scan(0, false, nil, func(c *Chunk) (bool, error) {
		for i := range c.Batches {
			var unit int
			fmt.Sscanf(c.Batches[i].Unit, "unit-%d", &unit)
			c.Batches[i].Each(func(_ int64, text, _ []byte) bool {
				if n := next[unit]; string(text) != "and" {
					next[unit]++
					return assert.Equal(t, fmt.Sprintf("%d %s", n, strings.Repeat("x", n%100)), string(text))
				}
				return true
			})
		}
		return true, nil
	})
	assert.NoError(t, err)
	return next
}

// TestDiskRefuses keeps lines in memory while the log cannot be written, and writes them as soon as it can.
func TestDiskRefuses(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "log")
	require.NoError(t, os.WriteFile(dir, nil, 0o600)) // in the place of the directory
	b := Open(dir, Options{})
	b.Append(Entry{Unit: "tides"}, "first")
	b.Flush()
	require.ErrorContains(t, b.Err(), "the log cannot be written, output is kept in memory: not a directory")
	b.Append(Entry{Unit: "berths"}, "second")
	assert.Equal(t, []string{"first", "second"}, texts(all(t, view(t, b))))
	assert.EqualValues(t, 2, b.Published(), "it will not come to the disk soon")

	large := strings.Repeat("x", 1<<20)
	for range maxKept >> 20 {
		b.Append(Entry{Unit: "tides"}, large)
	}
	before := view(t, b).End()
	b.Append(Entry{Unit: "tides"}, "has no room", "neither")
	assert.Equal(t, before, view(t, b).End())

	require.NoError(t, os.Remove(dir))
	b.Flush()
	require.NoError(t, b.Err())
	b.Append(Entry{Unit: "tides"}, "there is room again")
	require.NoError(t, b.Close())
	lines := texts(all(t, view(t, Read(dir, true))))
	assert.Equal(
		t,
		[]string{"the log can be written again; 2 lines had no room and are lost", "there is room again"},
		lines[before:],
	)
	assert.Equal(t, []string{"first", "second"}, lines[:2])
}

func TestGrown(t *testing.T) {
	b := open(t)
	grown, release := b.Grown()
	b.Append(Entry{Unit: "tides"}, "a")
	b.Append(Entry{Unit: "tides"}, "b")
	<-grown
	b.Flush()
	release()
	for len(grown) > 0 {
		<-grown
	}
	b.Append(Entry{Unit: "tides"}, "c")
	b.Flush()
	assert.Empty(t, grown)
}

// TestTorn cuts a log at every position, as a crash of the machine may, and reads the rest.
func TestTorn(t *testing.T) {
	b := open(t)
	b.Append(Entry{Unit: "tides", Run: 1}, "first", "second")
	b.Append(Entry{Unit: "berths", Run: 2}, "third")
	b.Append(Entry{Unit: "tides", Run: 1, Stream: Note}, "said")
	require.NoError(t, b.Close())
	names, _ := filepath.Glob(filepath.Join(b.Dir(), "*"+indexEnding))
	base := strings.TrimSuffix(names[0], indexEnding)
	text, err := os.ReadFile(base + textEnding)
	require.NoError(t, err)
	codes, err := os.ReadFile(base + indexEnding)
	require.NoError(t, err)
	want := []string{"first", "second", "third", "said"}
	for n := headerSize; n < len(codes); n++ {
		require.NoError(t, os.WriteFile(base+indexEnding, append(codes[:n:n], 0, 0, 0), 0o600))
		got := texts(all(t, view(t, Read(b.Dir(), true))))
		if len(got) == 4 {
			got[3] = strings.TrimPrefix(got[3], "tides ") // its unit is no longer known
		}
		require.Equal(t, want, got, "index cut after %d", n)
		live := texts(all(t, view(t, Read(b.Dir(), false))))
		require.Equal(t, want[:len(live)], live)
	}
	require.NoError(t, os.WriteFile(base+indexEnding, codes, 0o600))
	for n := range text {
		require.NoError(t, os.WriteFile(base+textEnding, text[:n], 0o600))
		got := strings.Join(texts(all(t, view(t, Read(b.Dir(), true)))), "\n")
		whole := strings.Join(texts(all(t, view(t, Read(b.Dir(), false)))), "\n")
		require.True(t, strings.HasPrefix(got, whole), "%q %q", got, whole)
		require.Contains(t, string(text[:n])+"\n", whole[strings.LastIndex(whole, "\n")+1:])
	}
}

// TestLimits creates three earlier sessions and writes until its own segments are deleted.
func TestLimits(t *testing.T) {
	root := t.TempDir()
	for day := 1; day <= 3; day++ {
		old := filepath.Join(root, fmt.Sprintf("2026110%d-080000.000", day))
		require.NoError(t, os.MkdirAll(old, 0o700))
		require.NoError(t, os.WriteFile(old+"/0001-2026-11-01.log", make([]byte, 1<<20), 0o600))
		require.NoError(t, os.WriteFile(old+"/facts.jsonl", nil, 0o600))
		if day == 1 {
			require.NoError(t, os.Chtimes(old+"/0001-2026-11-01.log", time.Time{}, time.Now().AddDate(0, 0, -15)))
		}
	}
	require.NoError(t, os.MkdirAll(root+"/notes", 0o700)) // not ours
	sessions := func() []string {
		names, _ := filepath.Glob(root + "/*")
		for i := range names {
			names[i] = filepath.Base(names[i])
		}
		return names
	}
	b := Open(
		filepath.Join(root, "20261125-080000.000"),
		Options{Limits: Limits{Size: 5 << 20, Age: 14 * 24 * time.Hour}},
	)
	defer b.Close()
	b.Append(Entry{Unit: "tides"}, "first")
	said := func(pattern string) func() bool {
		return func() bool {
			b.Flush()
			notes, err := view(t, b).Find(0, false, 10, func(e *Entry) bool { return e.Stream == Note }, nil)
			return assert.NoError(t, err) &&
				slices.ContainsFunc(notes, func(l Line) bool { return strings.Contains(l.Text, pattern) })
		}
	}
	require.Eventually(
		t,
		said("the log of 1 earlier session was deleted: logs are kept up to 5.2 MB and 14 days"),
		time.Minute,
		time.Millisecond,
	)
	assert.Equal(t, []string{"20261102-080000.000", "20261103-080000.000", "20261125-080000.000", "notes"}, sessions())

	large := strings.Repeat("x", 10_000)
	for range 1000 {
		b.Append(Entry{Unit: "tides"}, large)
	}
	require.Eventually(t, said("what was written before "), time.Minute, time.Millisecond)
	require.Eventually(
		t,
		func() bool { return len(sessions()) == 2 },
		time.Minute,
		time.Millisecond,
		"the other sessions go first",
	)
	assert.Positive(t, view(t, b).First())
	require.NoError(t, b.Close())
	all(t, view(t, Read(b.Dir(), false)))
}

// FuzzIndex reads arbitrary bytes as an index.
func FuzzIndex(f *testing.F) {
	b := open(f)
	b.Append(Entry{Unit: "tides", Run: 1}, "first", "second")
	b.Append(Entry{Unit: "berths", Run: 2}, "third")
	require.NoError(f, b.Close())
	names, _ := filepath.Glob(filepath.Join(b.Dir(), "*"))
	codes, _ := os.ReadFile(names[0])
	text, _ := os.ReadFile(names[1])
	f.Add(codes, text)
	f.Fuzz(func(t *testing.T, codes, text []byte) {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(dir+"/0001.index", codes, 0o600))
		require.NoError(t, os.WriteFile(dir+"/0001.log", text, 0o600))
		for _, over := range []bool{false, true} {
			v := view(t, Read(dir, over))
			v.Scan(v.First(), false, nil, func(c *Chunk) (bool, error) {
				for i := range c.Batches {
					c.Batches[i].Each(func(int64, []byte, []byte) bool { return c.Batches[i].Lines < 1e4 })
				}
				return true, nil
			})
			v.Find(v.End(), true, 10, nil, nil)
			v.At(time.Now())
		}
	})
}
