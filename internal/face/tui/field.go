package tui

import (
	"path/filepath"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
)

// field is a line at the bottom of the screen that the user types into. The view below it stays visible, and has no
// keys. Views that are more than a field embed it.
type field struct {
	input   textinput.Model
	below   view
	title   string // its name in the table of keys
	problem string // why what is typed cannot be used; empty: it can be
}

// fieldOver returns a field over a view, with a value to begin with.
func (m *model) fieldOver(below view, title, prompt, placeholder, value string) field {
	in := textinput.New()
	in.Prompt, in.Placeholder = prompt, placeholder
	in.SetValue(value)
	in.SetWidth(max(min(m.width-len(prompt)-46, 60), 8))
	m.run(in.Focus())
	return field{input: in, below: below, title: title}
}

func (f *field) name() string { return f.title }

func (*field) grabs(*model) bool { return true }

func (f *field) draw(m *model, width, height int) []string { return f.below.draw(m, width, height) }

func (f *field) update(m *model, msg tea.Msg) { f.typed(m, msg) }

// ask implements asker for the view below.
func (f *field) ask(m *model) {
	if a, ok := f.below.(asker); ok {
		a.ask(m)
	}
}

// typed takes what is typed, and reports whether that has changed the value.
func (f *field) typed(m *model, msg tea.Msg) bool {
	before := f.input.Value()
	var cmd tea.Cmd
	f.input, cmd = f.input.Update(msg)
	m.run(cmd)
	return f.input.Value() != before
}

// fill replaces the value.
func (f *field) fill(value string) {
	f.input.SetValue(value)
	f.input.CursorEnd()
}

// status is what is shown next to the field about what is typed.
func (*field) status(*model) string { return "" }

// wrong is why what is typed cannot be used; empty: it can be.
func (f *field) wrong(*model) string { return f.problem }

// typingView is a view that embeds a field.
type typingView interface {
	view
	line() *field
	status(*model) string
	wrong(*model) string
}

func (f *field) line() *field { return f }

// underField returns the view that the user is in, below a field.
func (m *model) underField() view {
	if f, ok := m.top().(typingView); ok {
		return f.line().below
	}
	return m.top()
}

// writeField asks for the file that something is written to.
type writeField struct {
	field
	write func(file string) // with an absolute path
}

// askFile opens a field for a file's name. Relative names are below the project's root.
func (m *model) askFile(below view, prompt, formats, name string, write func(file string)) {
	m.open(&writeField{m.fieldOver(below, "write", prompt, formats, name), write})
}

func (f *writeField) submit(m *model) {
	m.close()
	if file := f.input.Value(); file != "" {
		f.write(m.pathOf(file))
	}
}

// pathOf is a path as the user types it, made absolute.
func (m *model) pathOf(file string) string {
	if filepath.IsAbs(file) {
		return file
	}
	return filepath.Join(m.snap.Project.Root, file)
}
