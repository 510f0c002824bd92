package export

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/html"

	"omnivigil/internal/api"
)

// few is a log of two lines.
type few struct{ api.Log }

func (few) Lines(_ context.Context, q api.LineQuery) (api.Page, error) {
	at := time.Date(2030, 5, 4, 12, 0, 0, 0, time.Local)
	lines := []api.Line{
		{
			Number: 0,
			At:     at,
			Unit:   "tides",
			Run:    1,
			Stream: api.Output,
			Text: "\x1b[1;31mhigh\x1b[0m <water> \x1b]8;;http://x/?a=1&b\x1b\\here\x1b]8;;\x1b\\ " +
				"\x1b]8;;file:///etc\x1b\\no\x1b]8;;\x1b\\",
		},
		{Number: 1, At: at, Unit: "tides", Run: 1, Stream: api.Ends, Tone: api.ToneBroken, Text: "run 1 failed\x1b[2J"},
	}
	return api.Page{End: 2, Lines: lines[min(q.From, 2):]}, nil
}

func TestStream(t *testing.T) {
	snap := &api.Snapshot{Project: api.About{Name: "Saltmarsh <Ferries>"}}
	for format, want := range map[string][]string{
		Text: {"12:00:00.000 tides      high <water> here no\n12:00:00.000 omnivigil  tides run 1 failed"},
		JSON: {`"text":"high <water> here no"}` + "\n", `"tone":"broken","text":"run 1 failed"}` + "\n"},
		HTML: {"<title>Saltmarsh &lt;Ferries&gt;: unit=tides</title>",
			`<span style="font-weight:bold;color:#c0392b">high</span> &lt;water&gt; <a ` +
				`href="http://x/?a=1&amp;b">here</a> no`, `<div class="own broken">`},
	} {
		var out strings.Builder
		n, err := Stream(t.Context(), few{}, snap, Part{Filter: "unit=tides"}, format, &out)
		require.NoError(t, err)
		assert.Equal(t, 2, n)
		for _, w := range want {
			assert.Contains(t, out.String(), w)
		}
		assert.NotContains(t, out.String(), "\x1b")
	}
	_, err := Stream(t.Context(), few{}, snap, Part{}, "svg", nil)
	assert.ErrorContains(t, err, `there is no format "svg"`)

	var one strings.Builder
	n, err := Stream(t.Context(), few{}, snap, Part{Within: &[2]int64{1, 1}}, Text, &one)
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	assert.Contains(t, one.String(), "failed")

	file := t.TempDir() + "/a.html"
	assert.Equal(t, HTML, FormatOf(file))
	_, err = StreamFile(t.Context(), few{}, snap, Part{}, HTML, file)
	require.NoError(t, err)
	_, err = StreamFile(t.Context(), few{}, snap, Part{}, HTML, file)
	assert.ErrorContains(t, err, "exists", "nothing is overwritten")
}

// FuzzMarkUp checks that a line adds nothing to a page but text, colors and links to web pages.
func FuzzMarkUp(f *testing.F) {
	f.Add("\x1b[38;5;200;48;2;1;2;3mx\x1b[0m<script>")
	f.Fuzz(func(t *testing.T, line string) {
		z := html.NewTokenizer(strings.NewReader(markUp(line)))
		for {
			switch z.Next() {
			case html.ErrorToken:
				return
			case html.StartTagToken, html.EndTagToken:
				token := z.Token()
				require.Contains(t, []string{"span", "a"}, token.Data)
				for _, a := range token.Attr {
					require.Contains(t, []string{"style", "href"}, a.Key)
					if a.Key == "href" {
						require.Regexp(t, `^https?:`, strings.ToLower(a.Val))
					}
				}
			case html.CommentToken, html.DoctypeToken, html.SelfClosingTagToken:
				t.Fatal("more than text")
			}
		}
	})
}
