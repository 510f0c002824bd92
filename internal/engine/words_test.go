package engine

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"omnivigil/internal/text/format"
)

func TestExitInWords(t *testing.T) {
	for want, x := range map[string]Exit{
		"ended by itself (exit 0)":         {},
		"exit 3":                           {Code: 3},
		"exit 127, command not found?":     {Code: 127},
		"killed (SIGKILL), out of memory?": {Code: -1, Signal: "SIGKILL"},
		"segmentation fault (SIGSEGV)":     {Code: -1, Signal: "SIGSEGV"},
		"SIGXFSZ":                          {Code: -1, Signal: "SIGXFSZ"},
	} {
		assert.Equal(t, want, x.words())
	}
}

func TestDuration(t *testing.T) {
	for want, d := range map[string]time.Duration{
		"0.00 s":      0,
		"0.41 s":      412 * time.Millisecond,
		"12.3 s":      12345 * time.Millisecond,
		"4 min 05 s":  4*time.Minute + 5*time.Second,
		"26 h 07 min": 26*time.Hour + 7*time.Minute,
	} {
		assert.Equal(t, want, format.Duration(d))
	}
}

func TestBecause(t *testing.T) {
	hit := func(path, what string) Hit { return Hit{Path: path, What: what} }
	for want, hits := range map[string][]Hit{
		"a changed":               {hit("a", "written")},
		"a was removed":           {hit("a", "removed")},
		"a and b changed":         {hit("a", "created"), hit("b", "written")},
		"a, b and 2 more changed": {hit("a", ""), hit("b", ""), hit("c", ""), hit("d", "")},
	} {
		assert.Equal(t, want, because(hits))
	}
}
