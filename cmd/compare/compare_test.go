package main

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// measured writes and reads results: a benchmark of a duration, a rate and a reference, n times, with noise of 10 %.
func measured(t *testing.T, n int, seed uint64, factor float64) results {
	r := rand.New(rand.NewPCG(seed, 1))
	var text strings.Builder
	text.WriteString("goos: linux\npkg: omnivigil/internal/engine\n")
	for range n {
		noise := factor * (0.95 + 0.1*r.Float64())
		fmt.Fprintf(&text, "BenchmarkSave/10-2 \t 100\t %.3f ns/op\t %.3f steps/s\t %.3f bare-ms\t 3 ratio\n",
			1000*noise, 1e6/noise, 5*noise)
	}
	file := filepath.Join(t.TempDir(), "results")
	require.NoError(t, os.WriteFile(file, []byte(text.String()), 0o644))
	all, err := read(file)
	require.NoError(t, err)
	return all
}

func TestCompare(t *testing.T) {
	for _, c := range []struct {
		name   string
		n      int
		factor float64
		want   string
	}{
		{"equal", 10, 1, ""},
		{"within the slack", 30, 1.03, ""},
		{"slower", 10, 1.2, "worse"},
		{"faster", 10, 0.8, "better"},
		{"slower, but too few", 4, 1.2, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			all := compare(measured(t, c.n, 1, 1), measured(t, c.n, 2, c.factor))
			require.Len(t, all, 3, "without the reference")
			words := map[string]string{}
			for _, d := range all {
				words[d.unit] = d.word
				assert.LessOrEqual(t, d.low, d.high)
			}
			assert.Equal(t, map[string]string{"sec/op": c.want, "steps/s": c.want, "ratio": ""}, words)
			var out strings.Builder
			worse := report(&out, all)
			assert.Equal(t, strings.Count(out.String(), "worse"), worse)
		})
	}
}

// TestFalseAlarms compares a version with itself, many times.
func TestFalseAlarms(t *testing.T) {
	alarms := 0
	for seed := range uint64(500) {
		for _, d := range compare(measured(t, 10, 2*seed, 1), measured(t, 10, 2*seed+1, 1)) {
			if d.word != "" {
				alarms++
			}
		}
	}
	assert.LessOrEqual(t, alarms, 3)
}

func TestDamaged(t *testing.T) {
	_, err := read(filepath.Join(t.TempDir(), "none"))
	assert.ErrorContains(t, err, "none")
	file := filepath.Join(t.TempDir(), "results")
	require.NoError(t, os.WriteFile(file, []byte("BenchmarkSave 1 many ns/op\n"), 0o644))
	_, err = read(file)
	assert.ErrorContains(t, err, "results:1")
}
