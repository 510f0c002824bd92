package tui

import (
	"context"
	"slices"

	"omnivigil/internal/api"
	"omnivigil/internal/text/format"
	"omnivigil/internal/text/shellwords"
)

// wordsField asks for arguments that are added to a unit's command for its next runs.
type wordsField struct {
	field
	unit string
	at   int // in the history; its length: at what is typed
}

func addWords(m *model) {
	u := m.selectedUnit()
	f := m.fieldOver(overviewOf(m), "words", u.Command+"  ", "arguments to add for the next runs", format.Typed(u.Words))
	m.open(&wordsField{f, u.Name, len(m.typedWords)})
}

// recall shows what was typed before, or after that.
func (f *wordsField) recall(m *model, by int) {
	f.at = max(0, min(f.at+by, len(m.typedWords)))
	text := ""
	if f.at < len(m.typedWords) {
		text = m.typedWords[f.at]
	}
	f.fill(text)
}

// submit asks for the words. They are taken apart as a shell does, but nothing in them is
// replaced.
func (f *wordsField) submit(m *model) {
	text := f.input.Value()
	words, err := shellwords.Split(text)
	if err != nil {
		f.problem = "a quote is not closed"
		return
	}
	if len(words) > 0 {
		rememberWords(m, text)
	}
	m.close()
	if u := m.snap.Unit(f.unit); u != nil && len(words)+len(u.Words) > 0 { // an edit may have removed it
		setWords(m, f.unit, words)
	}
}

// maxTyped is how many words, as they were typed, are remembered.
const maxTyped = 100

// rememberWords makes a text the newest that was typed.
func rememberWords(m *model, text string) {
	all := append(slices.DeleteFunc(slices.Clone(m.typedWords), func(old string) bool { return old == text }), text)
	m.typedWords = all[max(len(all)-maxTyped, 0):]
	if remember, words := m.remember, m.typedWords; remember != nil {
		m.later(func(context.Context) then {
			remember(words)
			return nil
		})
	}
}

// setWords has a unit run with words added to its command, or with none.
func setWords(m *model, unit string, words []string) {
	m.askFor(api.Request{Action: api.AddWords, Units: []string{unit}, Words: words})
}

func hasWords(m *model) bool { u := m.selectedUnit(); return u != nil && len(u.Words) > 0 }
