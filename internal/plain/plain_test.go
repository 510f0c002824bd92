package plain

import (
	"bytes"
	"context"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/api"
)

// ended is a project that has ended and left these lines.
type ended struct {
	api.Project
	lines []api.Line
}

func (e ended) Follow(_ context.Context, _ api.Face, show func(*api.Snapshot) error) error {
	return show(&api.Snapshot{Status: api.Status{Ended: true, Lines: int64(len(e.lines))}})
}

func (e ended) Lines(_ context.Context, q api.LineQuery) (api.Page, error) {
	end := min(q.From+2, int64(len(e.lines)))
	return api.Page{From: q.From, End: end, Lines: e.lines[q.From:end]}, nil
}

func project() ended {
	at := time.Date(2026, 3, 1, 15, 4, 5, 6e6, time.Local)
	return ended{lines: []api.Line{
		{At: at, Unit: "tides", Stream: api.Output, Text: "\x1b[31mhigh\x1b[0m water"},
		{At: at, Unit: "tides", Run: 2, Stream: api.Opens, Text: "restarts: model.toml changed"},
		{At: at, Stream: api.Note, Text: "ripple 7: fares.csv"},
	}}
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
			p := Printer{Project: project(), Out: &out, Format: Format{Colour: test.colour}}
			_, err := p.Follow(t.Context())
			require.NoError(t, err)
			assert.Equal(t, test.want, out.String())
		})
	}
}

type broken struct{}

func (broken) Write([]byte) (int, error) { return 0, errors.New("nobody reads") }

func TestFollowEndsWhenNobodyReads(t *testing.T) {
	p := Printer{Project: project(), Out: broken{}}
	_, err := p.Follow(t.Context())
	assert.ErrorContains(t, err, "nobody reads")
}
