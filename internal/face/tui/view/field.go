package view

import (
	"os"
	"path/filepath"
	"strings"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
)

// Field is a line at the bottom of the screen that the user types into. The view below it stays visible, and has no
// keys. Views that are more than a field embed it.
type Field struct {
	Input   textinput.Model
	below   View
	title   string // its name in the table of keys
	Problem string // why what is typed cannot be used; empty: it can be
}

// NewField returns a field over a view, with a value to begin with.
func (m *Model) NewField(below View, title, prompt, placeholder, value string) Field {
	in := textinput.New()
	in.Prompt, in.Placeholder = prompt, placeholder
	in.SetValue(value)
	in.SetWidth(max(min(m.Width-len(prompt)-46, 60), 8))
	m.Run(in.Focus())
	return Field{Input: in, below: below, title: title}
}

func (f *Field) Name() string { return f.title }

func (*Field) Grabs(*Model) bool { return true }

// TakesKeys implements Taker.
func (*Field) TakesKeys(*Model) bool { return true }

func (f *Field) Draw(m *Model, width, height int) []string { return f.below.Draw(m, width, height) }

func (f *Field) Update(m *Model, msg tea.Msg) { f.Typed(m, msg) }

// Ask implements Asker for the view below.
func (f *Field) Ask(m *Model) {
	if a, ok := f.below.(Asker); ok {
		a.Ask(m)
	}
}

// Typed handles what is typed, and reports whether it changed the value.
func (f *Field) Typed(m *Model, msg tea.Msg) bool {
	before := f.Input.Value()
	var cmd tea.Cmd
	f.Input, cmd = f.Input.Update(msg)
	m.Run(cmd)
	return f.Input.Value() != before
}

// Fill replaces the value.
func (f *Field) Fill(value string) {
	f.Input.SetValue(value)
	f.Input.CursorEnd()
}

// Status is what is shown next to the field about what is typed.
func (*Field) Status(*Model) string { return "" }

// Wrong is why what is typed cannot be used; empty: it can be.
func (f *Field) Wrong(*Model) string { return f.Problem }

// Typing is a view that embeds a field.
type Typing interface {
	View
	Line() *Field
	Status(*Model) string
	Wrong(*Model) string
}

func (f *Field) Line() *Field { return f }

// UnderField returns the top view, without a field over it.
func (m *Model) UnderField() View {
	if f, ok := m.Top().(Typing); ok {
		return f.Line().below
	}
	return m.Top()
}

// WriteField asks for the file that something is written to.
type WriteField struct {
	Field
	write func(file string) // with an absolute path
}

// AskFile opens a field for a file's name. Relative names are below the project's root.
func (m *Model) AskFile(below View, prompt, formats, name string, write func(file string)) {
	m.Open(&WriteField{m.NewField(below, "write", prompt, formats, name), write})
}

func (f *WriteField) Submit(m *Model) {
	m.Close()
	if file := f.Input.Value(); file != "" {
		f.write(m.PathOf(file))
	}
}

// PathOf makes a path that the user has typed absolute.
func (m *Model) PathOf(file string) string {
	if filepath.IsAbs(file) {
		return file
	}
	if m.Remote != nil { // it is written here
		return file
	}
	return filepath.Join(m.Snap.Project.Root, file)
}

// FieldBindings are those of fields that views share.
var FieldBindings = []Binding{
	{In: "write", Keys: []string{"enter"}, Name: "write", Hint: "write", Group: GroupField,
		Do: On(func(m *Model, f *WriteField) { f.Submit(m) })},
	{In: "write", Keys: []string{"esc", "ctrl+c"}, Name: "cancel", Hint: "cancel", Group: GroupField,
		Do: (*Model).Close},
}

// PathsLike returns the paths in the project that begin with what is typed. Directories end in a slash, and hidden
// names are among them only if a dot is typed. On another machine, none is known.
func (m *Model) PathsLike(typed string) []string {
	if m.Remote != nil {
		return nil
	}
	root := m.Snap.Project.Root
	dir, base := filepath.Split(typed)
	entries, _ := os.ReadDir(filepath.Join(root, dir))
	var like []string
	for _, e := range entries {
		name := e.Name()
		if !strings.HasPrefix(name, base) || strings.HasPrefix(name, ".") && base == "" {
			continue
		}
		if e.IsDir() {
			name += "/"
		}
		like = append(like, dir+name)
	}
	return like
}
