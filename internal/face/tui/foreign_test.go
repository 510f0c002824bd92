package tui

import (
	"bytes"
	"context"
	"io"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/api"
	"omnivigil/internal/face/export"
	"omnivigil/internal/face/plain"
	"omnivigil/internal/output/logbook"
	"omnivigil/internal/output/reader"
)

// harmless requires that text sent to a terminal contains no control sequences except colors (SGR), links (OSC 8),
// tabs and line ends.
func harmless(t testing.TB, text string) {
	t.Helper()
	require.True(t, utf8.ValidString(text), "%q", text)
	for rest := []byte(text); len(rest) > 0; {
		if r, n := utf8.DecodeRune(rest); r != 0x1b {
			control := r < 0x20 && r != '\n' && r != '\t' || r >= 0x7f && r < 0xa0
			turns := r == 0x61c || r == 0x200e || r == 0x200f || r >= 0x202a && r <= 0x202e ||
				r >= 0x2066 && r <= 0x2069
			require.False(t, control || turns, "%U in %q", r, text)
			rest = rest[n:]
			continue
		}
		seq, _, n, _ := ansi.DecodeSequence(rest, 0, nil)
		color := bytes.HasPrefix(seq, []byte("\x1b[")) && seq[len(seq)-1] == 'm' &&
			len(bytes.Trim(seq[2:len(seq)-1], "0123456789;:")) == 0
		link := bytes.HasPrefix(seq, []byte("\x1b]8;")) &&
			(bytes.HasSuffix(seq, []byte("\x1b\\")) || bytes.HasSuffix(seq, []byte("\a")))
		require.True(t, color || link, "%q in %q", seq, text)
		rest = rest[max(n, 1):]
	}
}

// reset requires that no color and no link continues past the end of a line.
func reset(t testing.TB, text string) {
	t.Helper()
	for line := range strings.Lines(text) {
		if i := strings.LastIndex(line, "\x1b["); i >= 0 {
			require.Regexp(t, "^\x1b\\[0?m", line[i:], "a color continues in %q", line)
		}
		if i := strings.LastIndex(line, "\x1b]8;"); i >= 0 {
			require.Regexp(t, "^\x1b\\]8;[^;]*;(\x1b\\\\|\a)", line[i:], "a link continues in %q", line)
		}
	}
}

// FuzzForeign feeds bytes to everything that shows output, both as output of a process and as a file name or an error
// message.
func FuzzForeign(f *testing.F) {
	f.Add([]byte("\x1b[31mred\n\x1b[2J\u009b2J\x1b]0;title\x07\x1b]8;;http://x\x07x\n"+
		"\t潮\u202e\r50%\x9b1m\xff\x00"), 3)
	f.Add([]byte(`{"level":"error","msg":"a\u001b[2Jb","x":"\u009b"}`+"\n\x1b[8mhid\x1b[5mden\x1b[?25l\x1bc\x1b(0"), 9)
	m, p := play(f, 3, 100, 30)
	f.Fuzz(func(t *testing.T, data []byte, cut int) {
		cut = max(0, min(cut, len(data)))
		var s logbook.Scanner
		book := logbook.Open(t.TempDir(), logbook.Options{})
		defer book.Close()
		out := logbook.Entry{Unit: "u1", Run: 1}
		for _, part := range [][]byte{data[:cut], data[cut:]} {
			said, block, _ := s.ScanBlock(part)
			book.Append(out, said...)
			book.AppendBlock(out, block)
			book.Append(out, s.Pause(nil)...)
		}
		book.Append(out, s.Rest()...)
		log := reader.Log{Source: book}

		for _, color := range []bool{false, true} {
			var printed strings.Builder
			snap, _ := p.Snapshot(t.Context())
			snap.Lines, snap.Ended = 1<<40, true
			printer := plain.Printer{Project: still{p, log, snap}, Out: &printed, Format: plain.Format{Color: color}}
			_, err := printer.Follow(t.Context())
			require.NoError(t, err)
			harmless(t, printed.String())
			reset(t, printed.String())
		}
		page, err := log.Lines(t.Context(), api.LineQuery{Last: true, Fold: true})
		require.NoError(t, err)
		for _, l := range page.Lines {
			harmless(t, plain.Format{Color: true}.Line(l))
		}
		for _, format := range []string{export.Text, export.HTML} {
			var written strings.Builder
			_, err = export.Stream(t.Context(), log, &api.Snapshot{}, export.Part{}, format, &written)
			require.NoError(t, err)
			harmless(t, written.String())
		}

		snap, _ := p.Snapshot(t.Context())
		snap.Lines, snap.LogProblem = m.Snap.Lines+1, string(data) // not the lines it already has
		m.Project = still{p, log, snap}
		for range 2 {
			m.keyed("\\") // lines are cut, or wrapped
			m.settle(snap)
			m.Notice, m.Said = string(data), string(data)
			view := m.View()
			harmless(t, view.Content)
			harmless(t, view.WindowTitle)
		}
	})
}

// still is a project with a replaced log.
type still struct {
	*played
	log  api.Log
	snap *api.Snapshot
}

func (s still) Follow(_ context.Context, _ api.Face, show func(*api.Snapshot) error) error {
	return show(s.snap)
}

func (s still) Lines(ctx context.Context, q api.LineQuery) (api.Page, error) {
	return s.log.Lines(ctx, q)
}

func (s still) Text(ctx context.Context, q api.TextQuery, w io.Writer) (int64, error) {
	return s.log.Text(ctx, q, w)
}
