package contents

import (
	"bytes"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const most = 1 << 30

func TestStore(t *testing.T) {
	s := In(filepath.Join(t.TempDir(), "store"), Limits{})
	random := make([]byte, 300<<10)
	rand.Read(random)
	for name, data := range map[string][]byte{
		"empty": {}, "short": []byte("high tide"), "random": random,
		"text": bytes.Repeat([]byte("low tide\n"), 100_000),
	} {
		file := filepath.Join(t.TempDir(), name)
		require.NoError(t, os.WriteFile(file, data, 0o644))
		c, err := s.AddFile(file)
		require.NoError(t, err)
		assert.Equal(t, Content{SumOf(data), int64(len(data))}, c)
		again, err := s.Add(data)
		require.NoError(t, err)
		assert.Equal(t, c, again)
		assert.True(t, s.Has(c))
		got, err := s.Read(c, most)
		require.NoError(t, err)
		assert.Equal(t, data, got)
		path, info := s.find(c.Sum)
		assert.Equal(t, os.FileMode(0o600), info.Mode())
		assert.Equal(t, packed, filepath.Ext(path))
	}
	u, err := s.Usage()
	require.NoError(t, err)
	assert.Equal(t, 4, u.Contents)
	assert.Less(t, u.Bytes, int64(310<<10), "text is compressed")
	empty, err := os.ReadDir(filepath.Join(s.dir, tmp))
	require.NoError(t, err)
	assert.Empty(t, empty)

	_, err = s.AddFile(t.TempDir())
	require.ErrorContains(t, err, "directory")
	absent := Content{SumOf([]byte("nothing")), 7}
	assert.False(t, s.Has(absent))
	_, err = s.Read(absent, most)
	require.ErrorIs(t, err, ErrAbsent)
	_, err = s.Read(Content{SumOf(random), int64(len(random))}, 1000)
	require.ErrorContains(t, err, "at most 1000")

	text, err := json.Marshal(absent)
	require.NoError(t, err)
	var back Content
	require.NoError(t, json.Unmarshal(text, &back))
	assert.Equal(t, absent, back)
	require.ErrorContains(t, json.Unmarshal([]byte(`{"sum":"12"}`), &back), "no SHA-256")

	cleared, err := s.Clear()
	require.NoError(t, err)
	assert.Equal(t, u, cleared)
}

// TestDamage damages contents in all ways: they count as absent, and can be stored again.
func TestDamage(t *testing.T) {
	data := bytes.Repeat([]byte("the sea is calm\n"), 5000)
	c := Content{SumOf(data), int64(len(data))}
	for _, ending := range []string{packed, ""} {
		for name, damage := range map[string]func(file string, was []byte) error{
			"cut":     func(file string, was []byte) error { return os.WriteFile(file, was[:len(was)/2], 0o600) },
			"empty":   func(file string, _ []byte) error { return os.WriteFile(file, nil, 0o600) },
			"longer":  func(file string, was []byte) error { return os.WriteFile(file, append(was, was...), 0o600) },
			"garbage": func(file string, _ []byte) error { return os.WriteFile(file, []byte("garbage"), 0o600) },
			"other": func(file string, was []byte) error {
				was[len(was)/3] ^= 1
				return os.WriteFile(file, was, 0o600)
			},
			"a directory": func(file string, _ []byte) error {
				os.Remove(file)
				return os.Mkdir(file, 0o700)
			},
			"a link": func(file string, _ []byte) error {
				os.Remove(file)
				return os.Symlink("/etc/passwd", file)
			},
		} {
			t.Run(name+" "+ending, func(t *testing.T) {
				s := In(t.TempDir(), Limits{})
				_, err := s.Add(data)
				require.NoError(t, err)
				path, _ := s.find(c.Sum)
				if ending == "" { // as where blocks are shared
					require.NoError(t, os.Remove(path))
					path = s.path(c.Sum)
					require.NoError(t, os.WriteFile(path, data, 0o600))
				}
				was, err := os.ReadFile(path)
				require.NoError(t, err)
				require.NoError(t, damage(path, was))
				old := time.Now().Add(-25 * time.Hour)
				os.Chtimes(path, old, old)
				_, err = s.Read(c, most)
				require.ErrorIs(t, err, ErrAbsent)
				os.RemoveAll(path)
				_, err = s.Add(data)
				require.NoError(t, err)
				got, err := s.Read(c, most)
				require.NoError(t, err)
				assert.Equal(t, data, got)
			})
		}
	}
}

// TestVerified checks that a content is verified again after a day.
func TestVerified(t *testing.T) {
	s := In(t.TempDir(), Limits{})
	c, err := s.Add([]byte("ebb"))
	require.NoError(t, err)
	path, _ := s.find(c.Sum)
	old := time.Now().Add(-25 * time.Hour)
	require.NoError(t, os.Chtimes(path, old, old))
	_, err = s.Read(c, most)
	require.NoError(t, err)
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.WithinDuration(t, time.Now(), info.ModTime(), time.Minute)
}

func TestLimits(t *testing.T) {
	add := func(s *Store, n int, used time.Duration) Content {
		data := make([]byte, 1000)
		rand.Read(data)
		c, err := s.Add(data)
		require.NoError(t, err)
		path, _ := s.find(c.Sum)
		at := time.Now().Add(-used)
		require.NoError(t, os.Chtimes(path, at, at), n)
		return c
	}
	for name, test := range map[string]struct {
		limits Limits
		kept   int
	}{
		"none":       {Limits{}, 10},
		"age":        {Limits{Age: 4*time.Hour + time.Minute}, 5},
		"size":       {Limits{Size: 3500}, 3},
		"both":       {Limits{Size: 5500, Age: 2*time.Hour + time.Minute}, 3},
		"everything": {Limits{Size: 1}, 0},
	} {
		t.Run(name, func(t *testing.T) {
			s := In(t.TempDir(), test.limits)
			var all []Content
			for n := range 10 {
				all = append(all, add(s, n, time.Duration(n)*time.Hour))
			}
			left := filepath.Join(s.dir, tmp, "left")
			require.NoError(t, os.WriteFile(left, []byte("by a process that was killed"), 0o600))
			require.NoError(t, os.Chtimes(left, time.Time{}, time.Now().Add(-2*time.Hour)))
			require.NoError(t, s.Trim())
			for n, c := range all {
				assert.Equal(t, n < test.kept, s.Has(c), "what was used last stays: %d", n)
			}
			assert.NoFileExists(t, left)
			require.NoError(t, s.Tidy())
		})
	}
}

// TestSeveral stores, reads, deletes and limits the same contents at once, as several processes do.
func TestSeveral(t *testing.T) {
	dir := t.TempDir()
	var wait sync.WaitGroup
	for range 8 {
		wait.Go(func() {
			s := In(dir, Limits{Size: 2000})
			for n := range 200 {
				data := []byte(strings.Repeat(fmt.Sprint(n%7), 1000+n%7))
				c, err := s.Add(data)
				if !assert.NoError(t, err) {
					return
				}
				switch got, err := s.Read(c, most); {
				case errors.Is(err, ErrAbsent):
				case assert.NoError(t, err):
					assert.Equal(t, data, got)
				}
				switch n % 20 {
				case 5:
					assert.NoError(t, s.Trim())
				case 10:
					_, err := s.Clear()
					assert.NoError(t, err)
				}
			}
		})
	}
	wait.Wait()
}

// TestKilled kills a process that stores contents, at any time: what is in the store then is complete.
func TestKilled(t *testing.T) {
	if dir := os.Getenv("STORE_UNTIL_KILLED"); dir != "" {
		s := In(dir, Limits{})
		for n := 0; ; n++ {
			s.Add(bytes.Repeat([]byte(fmt.Sprint(n, " ")), 20_000))
		}
	}
	dir := t.TempDir()
	for range 10 {
		c := exec.Command(os.Args[0], "-test.run=TestKilled")
		c.Env = append(os.Environ(), "STORE_UNTIL_KILLED="+dir)
		require.NoError(t, c.Start())
		before, _ := In(dir, Limits{}).Usage()
		require.Eventually(t, func() bool {
			now, _ := In(dir, Limits{}).Usage()
			return now.Contents > before.Contents+3
		}, time.Minute, time.Millisecond)
		require.NoError(t, c.Process.Kill())
		c.Wait()
	}
	s := In(dir, Limits{})
	all, err := s.list()
	require.NoError(t, err)
	for n := range 50 {
		data := bytes.Repeat([]byte(fmt.Sprint(n, " ")), 20_000)
		c := Content{SumOf(data), int64(len(data))}
		if slices.ContainsFunc(all, func(f stored) bool { return strings.HasPrefix(f.path, s.path(c.Sum)) }) {
			got, err := s.Read(c, most)
			require.NoError(t, err)
			assert.True(t, bytes.Equal(data, got))
		}
	}
}
