package overview

import (
	"context"

	"omnivigil/internal/face/export"
	"omnivigil/internal/face/tui/view"
	"omnivigil/internal/text/format"
)

// saveOutput asks for a file and writes the stream to it: all lines of the log that match the filter.
func saveOutput(m *view.Model) { saveLines(m, "write what is shown to  ", nil) }

// saveLines asks for a file and writes lines to it: those within two numbers, or all.
func saveLines(m *view.Model, prompt string, within *[2]int64) {
	name := "output-" + m.Now.Format("150405") + ".txt"
	m.AskFile(Of(m), prompt, ".txt, .jsonl or .html", name, func(file string) {
		s, snap := Focused(m), m.Snap
		part, session := export.Part{Filter: s.Filter.String(), Within: within}, s.Session
		m.Later(func(ctx context.Context) view.Then {
			log, err := m.Record(ctx, session)
			if err != nil {
				return m.Report(err)
			}
			n, err := export.StreamFile(ctx, log, snap, part, export.FormatOf(file), file)
			return func() { m.Saved(err, format.Count(n, "line")+" written to "+file) }
		})
	})
}

// write asks for a file and writes the selected lines to it.
func (p *picking) write(m *view.Model) {
	from, to, _ := p.of.Selected()
	m.Close()
	saveLines(m, "write these lines to  ", &[2]int64{from, to})
}
