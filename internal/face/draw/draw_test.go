package draw

import (
	"bytes"
	"encoding/xml"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/api"
	"omnivigil/internal/face/timeline"
)

var noon = time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)

// ferries is a project after a save that failed.
func ferries() *api.Snapshot {
	at := func(s int) time.Time { return noon.Add(time.Duration(s) * time.Second) }
	return &api.Snapshot{
		At:      at(60),
		Project: api.About{Name: "Saltmarsh Ferries", Since: noon},
		Verdict: api.Verdict{Word: api.VerdictBroken, Text: "fares failed (exit 1)"},
		Saves:   []api.Save{{At: at(30), Ripple: 2}},
		Units: []*api.Unit{
			{
				Name:  "fares",
				Kind:  "task",
				State: api.Failed,
				Marks: []api.Mark{
					{At: at(1), State: api.Running},
					{At: at(5), State: api.Done},
					{At: at(30), State: api.Running},
					{At: at(32), State: api.Failed},
				},
			},
			{
				Name:      "tickets",
				Kind:      "service",
				State:     api.Ready,
				Freshness: api.Stale,
				Follows:   []string{"fares"},
				Needs:     []string{"tides"},
				Marks: []api.Mark{
					{At: at(0), State: api.Waiting},
					{At: at(5), State: api.Starting},
					{At: at(6), State: api.Ready},
					{At: at(32), State: api.Ready, Stale: true},
				},
			},
			{
				Name:      "tides",
				Kind:      "service",
				State:     api.Ready,
				Freshness: api.Current,
				Marks:     []api.Mark{{At: at(0), State: api.Starting}, {At: at(1), State: api.Ready}},
			},
		},
		Ripples: []*api.Ripple{
			{
				ID:      2,
				Cause:   api.Cause{Kind: "change"},
				Title:   "fares.csv & <more>",
				Since:   at(30),
				RestAt:  at(32),
				Outcome: api.EndedBroken,
				Detail:  "fares failed (exit 1)",
				Runs: []*api.RunRef{
					{
						Unit:    "fares",
						Number:  2,
						Because: "fares.csv changed",
						Failed:  true,
						Took:    api.Seconds(2 * time.Second),
						Spans: []api.Span{
							{
								Phase: "debounce",
								From:  at(30),
								To:    at(30).Add(150 * time.Millisecond),
							},
							{Phase: "running", From: at(30).Add(150 * time.Millisecond), To: at(32)},
						},
					},
				},
			},
		},
	}
}

// pages returns one drawing of each kind.
func pages(t *testing.T) map[string]*Page {
	snap, date := ferries(), noon.Add(time.Hour)
	var s timeline.Series
	s.Add(
		[]api.Sample{
			{At: noon, Unit: "tides", CPU: 0.5, Memory: 3 << 20, Output: 100},
			{At: noon.Add(20 * time.Second), Unit: "tides", CPU: 0.25, Memory: 5 << 20, Output: 4000},
		},
	)
	a := AxisOf(noon, noon.Add(time.Minute))
	graphs := map[timeline.Measure][]timeline.Graph{}
	for _, m := range timeline.Measures {
		graphs[m] = timeline.ChartOf(m, snap, &s, a, snap.At)
	}
	all := map[string]*Page{}
	for name, draw := range map[string]func() (*Page, error){
		"lanes":  func() (*Page, error) { return Lanes(snap, a, date) },
		"ripple": func() (*Page, error) { return Ripple(snap.Project.Name, snap.Ripples[0], snap.At, date) },
		"map":    func() (*Page, error) { return Map(snap, date) },
		"charts": func() (*Page, error) { return Charts(snap, graphs, a, date) },
	} {
		p, err := draw()
		require.NoError(t, err)
		all[name] = p
	}
	return all
}

// TestPages writes every drawing in both formats and checks that it is well-formed, that text is stored as text, and
// that each drawing names the project, the period and the date.
func TestPages(t *testing.T) {
	says := map[string][]string{
		"lanes": {
			"lanes, 12:00:00 to 12:01:00",
			"tickets",
			"stale",
			"fares failed (exit 1)",
			"4.00s",
			"ready, but stale",
		},
		"ripple": {
			"ripple 2, 1 March 2026, 12:00:30, 2.00 s",
			"fares.csv & <more>",
			"because fares.csv changed",
			"2.00 s failed",
			"waiting for saves to settle",
		},
		"map":    {"map, as it was at 12:01:00", "to what follows it", "tides", "service, ready"},
		"charts": {"charts, 12:00:00 to 12:01:00", "memory", "max 5.2 MB", "from a save to rest", "max 50 %"},
	}
	for name, p := range pages(t) {
		var svg, pdf bytes.Buffer
		require.NoError(t, p.Write(&svg, "svg"))
		require.NoError(t, p.Write(&pdf, "pdf"))
		assert.True(t, bytes.HasPrefix(pdf.Bytes(), []byte("%PDF-")), name)
		texts := textsOf(t, svg.String())
		for _, text := range append(says[name], "Saltmarsh Ferries", "1 March 2026, 13:00:00") {
			assert.Contains(t, texts, text, name)
		}
	}
}

// textsOf returns the texts of an SVG, which must be well-formed.
func textsOf(t *testing.T, svg string) string {
	var all strings.Builder
	for d := xml.NewDecoder(strings.NewReader(svg)); ; {
		token, err := d.Token()
		if err == io.EOF {
			return all.String()
		}
		require.NoError(t, err)
		if text, ok := token.(xml.CharData); ok {
			all.Write(text)
		}
		if _, ok := token.(xml.EndElement); ok {
			all.WriteByte('\n')
		}
	}
}

// TestTexturesInGrey requires a distinct shape for every state.
func TestTexturesInGrey(t *testing.T) {
	seen := map[string]string{}
	colors := regexp.MustCompile(`#[0-9a-f]{3,6}`)
	for _, l := range legend {
		p, err := newPage(About{}, 100, 50)
		require.NoError(t, err)
		p.texture(l.cell, 10, 30, 20, 5)
		var svg bytes.Buffer
		require.NoError(t, p.Write(&svg, "svg"))
		shape := colors.ReplaceAllString(svg.String(), "")
		assert.Empty(t, seen[shape], "%s looks like %s", l.text, seen[shape])
		seen[shape] = l.text
	}
}

func TestFile(t *testing.T) {
	p := pages(t)["map"]
	dir := t.TempDir()
	require.NoError(t, p.File(filepath.Join(dir, "map.PDF")))
	assert.ErrorContains(t, p.File(filepath.Join(dir, "map.PDF")), "file exists")
	assert.ErrorContains(t, p.File(filepath.Join(dir, "map.png")), "ends in .svg or .pdf")
	_, err := os.Stat(filepath.Join(dir, "map.png"))
	assert.ErrorIs(t, err, os.ErrNotExist)
	assert.ErrorContains(t, p.Write(io.Discard, "dot"), "svg or pdf")
}

// TestNothing draws empty projects and periods.
func TestNothing(t *testing.T) {
	snap := &api.Snapshot{At: noon}
	a := AxisOf(noon, noon)
	for _, draw := range []func() (*Page, error){
		func() (*Page, error) { return Lanes(snap, a, noon) },
		func() (*Page, error) { return Ripple("", &api.Ripple{Since: noon}, noon, noon) },
		func() (*Page, error) { return Map(snap, noon) },
		func() (*Page, error) { return Charts(snap, nil, a, noon) },
	} {
		p, err := draw()
		require.NoError(t, err)
		require.NoError(t, p.Write(io.Discard, "svg"))
		require.NoError(t, p.Write(io.Discard, "pdf"))
	}
}
