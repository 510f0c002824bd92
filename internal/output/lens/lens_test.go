package lens

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/output/logbook"
	"omnivigil/internal/output/query"
	"omnivigil/internal/output/structured"
)

// TestKind compares lines: those of one group are of one kind, and those of different groups are not.
func TestKind(t *testing.T) {
	groups := [][]string{
		{"GET /berths/17 200 in 12ms", "GET /berths/9 404 in 1.5ms", "\x1b[32mGET\x1b[0m /berths/123 200 in 12ms"},
		{"GET /tides/17 200 in 12ms"},
		{"12:04:31 tide is low", "23:59:59.123 tide is low", "2030-05-04T12:04:31Z tide is low"},
		{"tide is low"},
		{"order 550e8400-e29b-41d4-a716-446655440000 paid", "order 1b9d6bcd-bbfd-4b2d-9b5d-ab8dfbbd4bed paid"},
		{"order paid"},
		{"listening on 127.0.0.1:4102", "listening on 10.0.0.7:80"},
		{`{"level":"info","id":"a3f9","took":1.25}`, `{"level":"info","id":"b7","took":-3}`},
		{`{"level":"warn","id":"a3f9","took":1.25}`},
		{"hohe Flut: 4 m", "hohe Flut: 12 m"},
		{"höhe Flut: 4 m"},
		{"12: text", "9: text"},
		{"1,234 passengers", "17 passengers"},
		{""},
	}
	of := map[uint64]int{}
	for i, group := range groups {
		for _, line := range group {
			k := Kind([]byte(line))
			if other, known := of[k]; known {
				assert.Equal(t, other, i, line)
			}
			assert.Equal(t, Kind([]byte(group[0])), k, line)
			of[k] = i
		}
	}
	assert.Len(t, of, len(groups))
}

func TestValues(t *testing.T) {
	for text, want := range map[string]string{
		`GET /berths/17 200 in 12ms`:                   "GET /berths/17! 200 in 12ms",
		`level=info request_id=a3f9-77 user="Ada L."`:  "info a3f9-77! Ada",
		`paid order (550e8400-e29b-41d4), total: 4.20`: "paid order 550e8400-e29b-41d4! total 4.20",
		`{"id":"b7c9","took":1250}`:                    "id b7c9! took 1250!",
		"":                                             "",
	} {
		var all []string
		for _, v := range Values(text) {
			one := text[v.From:v.To]
			if v.Likely {
				one += "!"
			}
			all = append(all, one)
		}
		assert.Equal(t, want, strings.Join(all, " "), text)
	}
}

// TestCensus reads a log in steps: which kinds are new since a line, how many lines there were at which time, and how
// memory is limited.
func TestCensus(t *testing.T) {
	now := time.Date(2030, 5, 4, 12, 0, 0, 0, time.UTC)
	book := logbook.Open(filepath.Join(t.TempDir(), "log"), logbook.Options{})
	defer book.Close()
	book.SetClock(func() time.Time { return now })
	var c Census
	read := func() int64 {
		book.Flush()
		v, err := book.View()
		require.NoError(t, err)
		end, err := c.Advance(v, time.Minute)
		require.NoError(t, err)
		assert.Equal(t, v.End(), end)
		return end
	}
	tides := logbook.Entry{Unit: "tides"}
	book.Append(tides, "tide 1 is high", "tide 2 is high", "ERROR tide 3")
	book.Append(logbook.Entry{Stream: logbook.Note}, "the project starts")
	since := read()
	now = now.Add(10 * time.Second)
	book.Append(tides, "tide 4 is high", "berth 1 is free", "WARN berth 2", `{"level":50,"msg":"no berth"}`)
	book.Append(logbook.Entry{Unit: "berths", Tone: logbook.Broken}, "tide 5 is high")
	number := since
	for _, line := range []struct {
		unit, text string
		is         bool
	}{
		{"tides", "tide 4 is high", false}, {"tides", "berth 1 is free", true}, {"tides", "WARN berth 2", true},
		{"berths", "tide 5 is high", true},
	} {
		assert.False(t, c.IsNew(line.unit, number+since+1, []byte(line.text), since), "not read yet")
		read()
		assert.Equal(t, line.is, c.IsNew(line.unit, number, []byte(line.text), since), line.text)
		number++
	}
	start := now.Add(-10 * time.Second)
	counts := c.Over(nil, start, 5*time.Second, 3)
	assert.Equal(t, []Count{
		{At: start, Lines: 3, Errors: 1}, {At: start.Add(5 * time.Second)},
		{At: start.Add(10 * time.Second), Lines: 5, Warnings: 1, Errors: 2},
	}, counts)
	only := c.Over(func(unit string) bool { return unit == "berths" }, start, time.Minute, 1)
	assert.Equal(t, []Count{{At: start, Lines: 1, Errors: 1}}, only)

	for i := range maxKinds + 10 {
		book.Append(logbook.Entry{Unit: "noise"}, strings.Repeat("x", i%100)+strings.Repeat("y", i/100))
	}
	end := read()
	assert.False(t, c.IsNew("noise", end-1, []byte("x"), since), "its text is different every time")
	for range 3 * keptFine {
		now = now.Add(time.Second)
		book.Append(tides, "tide 6 is high")
	}
	read()
	assert.LessOrEqual(t, len(c.units["tides"].fine), 2*keptFine)
	day := c.Over(nil, start, 24*time.Hour, 1)[0]
	assert.Equal(t, 8+maxKinds+10+3*keptFine, day.Lines, "none is lost when times are counted together")
}

// TestLevelIsNotMissed compares the fast test with the slow one, for every word of a level in common places.
func TestLevelIsNotMissed(t *testing.T) {
	for _, word := range []string{
		"warn", "warning", "wrn", "error", "err", "fatal", "panic", "critical", "crit", "alert", "emerg", "emergency",
		"severe", "dpanic", "ftl",
	} {
		for _, w := range []string{word, strings.ToUpper(word), strings.ToUpper(word[:1]) + word[1:]} {
			for _, form := range []string{
				"%s: no", "12:00 [%s] no", `{"level":"%s","msg":"no"}`, "lvl=%s msg=no", "%s no",
			} {
				line := []byte(fmt.Sprintf(form, w))
				if structured.LevelOf(string(line)) >= query.Warning {
					assert.True(t, mayStateLevel(line), "%s", line)
				}
			}
		}
	}
	assert.True(t, mayStateLevel([]byte(`{"LEVEL":50}`)))
}

func FuzzKind(f *testing.F) {
	f.Add([]byte("GET /berths/17 200 \x1b[31m12ms"))
	f.Fuzz(func(t *testing.T, text []byte) {
		Kind(text)
		last := 0
		for _, v := range Values(string(text)) {
			if v.From < last || v.To <= v.From || v.To > len(text) {
				t.Fatalf("%v is not in order in %q", v, text)
			}
			last = v.To
		}
	})
}

// BenchmarkCensus is the time for a line, for several kinds of text.
func BenchmarkCensus(b *testing.B) {
	for name, line := range map[string]string{
		"plain": "the tide is rising at the northern pier and the berths are free",
		"log":   "12:04:31.250 INFO request a3f9-77 GET /berths/17 took 12.5 ms, 200",
		"json":  `{"time":"2030-05-04T12:04:31Z","level":"info","msg":"request","id":"a3f9","took":12.5}`,
		"error": "ERROR cannot read berths.csv: line 17: the price is missing",
	} {
		b.Run(name, func(b *testing.B) {
			u := &unitCensus{kinds: map[uint64]int64{}}
			text := []byte(line)
			for i := 0; b.Loop(); i++ {
				u.kind(Kind(text), int64(i))
				level(logbook.Neutral, text)
			}
		})
	}
}
