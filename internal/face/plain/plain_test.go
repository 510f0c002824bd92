package plain

import (
	"bytes"
	"context"
	"errors"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/api"
)

// ended is a project that has ended and left these lines.
type ended struct {
	api.Project
	lines []string
}

func (e ended) Follow(_ context.Context, _ api.Face, show func(*api.Snapshot) error) error {
	return show(&api.Snapshot{Status: api.Status{Ended: true, Lines: int64(len(e.lines))}})
}

func (e ended) Beats(context.Context, func() error) error { return nil }

func (e ended) Text(_ context.Context, q api.TextQuery, w io.Writer) (int64, error) {
	_, err := io.WriteString(w, strings.Join(e.lines[q.From:q.End], ""))
	return q.End, err
}

func project() ended {
	return ended{lines: []string{
		"15:04:05.006 tides      \x1b[31mhigh\x1b[0m water\n",
		"15:04:05.006 omnivigil  tides restarts: model.toml\u009b2J changed\n",
		"15:04:05.006 omnivigil  ripple 7: fares.csv\n",
	}}
}

func TestFormat(t *testing.T) {
	for _, test := range []struct {
		name  string
		color bool
		want  string
	}{
		{"plain", false, "15:04:05.006 tides      high water\n" +
			"15:04:05.006 omnivigil  tides restarts: model.toml\\u009b2J changed\n" +
			"15:04:05.006 omnivigil  ripple 7: fares.csv\n"},
		{"colored", true, "15:04:05.006 tides      \x1b[31mhigh\x1b[0m water\n" +
			"15:04:05.006 omnivigil  tides restarts: model.toml\\u009b2J changed\n" +
			"15:04:05.006 omnivigil  ripple 7: fares.csv\n"},
	} {
		t.Run(test.name, func(t *testing.T) {
			var out bytes.Buffer
			p := Printer{Project: project(), Out: &out, Format: Format{Color: test.color}}
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
