package plain

import (
	"bytes"
	"errors"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/logbook"
)

func book(t *testing.T) *logbook.Book {
	t.Helper()
	b := logbook.Open(filepath.Join(t.TempDir(), "log"))
	t.Cleanup(func() { b.Close() })
	b.SetClock(func() time.Time { return time.Date(2026, 3, 1, 15, 4, 5, 6e6, time.Local) })
	b.Append(logbook.Entry{Unit: "tides"}, "\x1b[31mhigh\x1b[0m water")
	b.Append(logbook.Entry{Unit: "tides", Run: 2, Stream: logbook.Opens}, "restarts: model.toml changed")
	b.Append(logbook.Entry{Stream: logbook.Note}, "ripple 7: fares.csv")
	return b
}

func TestFormat(t *testing.T) {
	for _, test := range []struct {
		name   string
		colour bool
		want   string
	}{
		{"plain", false, "15:04:05.006 tides      high water\n" +
			"15:04:05.006 omnivigil  tides restarts: model.toml changed\n" +
			"15:04:05.006 omnivigil  ripple 7: fares.csv\n"},
		{"coloured", true, "15:04:05.006 tides      \x1b[31mhigh\x1b[0m water\n" +
			"15:04:05.006 omnivigil  tides restarts: model.toml changed\n" +
			"15:04:05.006 omnivigil  ripple 7: fares.csv\n"},
	} {
		t.Run(test.name, func(t *testing.T) {
			var out bytes.Buffer
			done := make(chan struct{})
			close(done)
			p := Printer{Book: book(t), Out: &out, Colour: test.colour}
			require.NoError(t, p.Follow(done))
			assert.Equal(t, test.want, out.String())
		})
	}
}

type broken struct{}

func (broken) Write([]byte) (int, error) { return 0, errors.New("nobody reads") }

func TestFollowEndsWhenNobodyReads(t *testing.T) {
	p := Printer{Book: book(t), Out: broken{}}
	assert.ErrorContains(t, p.Follow(nil), "nobody reads")
}
