// Package display draws frames on the terminal when it is told to, and lends the terminal to other programs.
//
// The renderer of Bubble Tea looks for something to draw sixty times a second, whether there is anything or not, which
// costs more than all the rest of an idle screen. Start reading at Display.
package display

import (
	"bytes"
	"fmt"
	"os"
	"reflect"
	"runtime"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	uv "github.com/charmbracelet/ultraviolet"
	"github.com/charmbracelet/x/ansi"
)

// Display is a terminal that frames are drawn on. Its methods must be called from one goroutine, except Size.
type Display struct {
	console  uv.Console
	profile  colorprofile.Profile
	whole    bool // the terminal can show a frame as a whole (synchronized updates)
	method   ansi.Method
	taken    bool
	renderer *uv.TerminalRenderer // writes into next; since the terminal was taken
	cells    uv.ScreenBuffer
	rows     []string     // what was drawn into cells
	next     bytes.Buffer // what is to be written
	shown    tea.View     // the frame that the terminal shows
	current  bool         // it shows that
}

// Open returns the display on a terminal, which it does not touch yet.
func Open(in, out *os.File, env []string) *Display {
	return &Display{console: uv.NewConsole(in, out, env), profile: colorprofile.Detect(out, env), method: ansi.WcWidth}
}

// Take takes the terminal: what is typed comes as it is, and an empty screen is shown. It asks the terminal for its
// background, and whether it can show a frame as a whole: the answers are messages, see Hear.
func (d *Display) Take() error {
	if d.taken {
		return nil
	}
	if _, err := d.console.MakeRaw(); err != nil {
		return fmt.Errorf("take the terminal: %w", err)
	}
	d.taken = true
	d.renderer = uv.NewTerminalRenderer(&d.next, d.console.Environ())
	d.renderer.SetFullscreen(true)
	d.renderer.SetRelativeCursor(false)
	d.renderer.SetTabStops(-1) // the terminal's may be others
	d.renderer.SetColorProfile(d.profile)
	d.renderer.SetScrollOptim(runtime.GOOS != "windows") // some terminals there do not scroll correctly
	d.next.WriteString(ansi.SetModeAltScreenSaveCursor + ansi.ResetModeTextCursorEnable + ansi.SetModeBracketedPaste +
		ansi.SetModifyOtherKeys2 + ansi.PushKittyKeyboard(ansi.KittyDisambiguateEscapeCodes) +
		ansi.RequestBackgroundColor)
	if answersModes(d.console.LookupEnv) {
		d.next.WriteString(ansi.RequestModeSynchronizedOutput + ansi.RequestModeUnicodeCore)
	}
	d.resize(d.Size())
	return d.flush()
}

// resize makes the next frame one of another size, which is drawn completely.
func (d *Display) resize(width, height int) {
	d.cells = uv.NewScreenBuffer(width, height)
	d.cells.Method = d.method
	d.rows = make([]string, height)
	d.current = false
	if d.renderer != nil {
		d.renderer.Resize(width, height)
		d.renderer.Erase()
	}
}

// flush writes what is to be written.
func (d *Display) flush() error {
	defer d.next.Reset()
	if d.next.Len() == 0 {
		return nil
	}
	_, err := d.console.Write(d.next.Bytes())
	return err
}

// answersModes reports whether a terminal can be asked for its modes: some show the question.
func answersModes(variable func(string) (string, bool)) bool {
	program, _ := variable("TERM_PROGRAM")
	_, remote := variable("SSH_TTY")
	_, windows := variable("WT_SESSION")
	name, _ := variable("TERM")
	known := func(part string) bool { return strings.Contains(name, part) }
	return windows || !remote && !strings.Contains(program, "Apple") ||
		slices.ContainsFunc([]string{"ghostty", "wezterm", "alacritty", "kitty", "rio"}, known)
}

// Give gives the terminal back as it was.
func (d *Display) Give() error {
	if !d.taken {
		return nil
	}
	d.taken = false
	d.setMouse(tea.MouseModeNone)
	d.setFocus(false)
	if d.shown.Cursor != nil {
		uv.EncodeCursorStyle(&d.next, uv.CursorBlock, true)
	}
	d.next.WriteString(ansi.SetWindowTitle("") + ansi.PopKittyKeyboard(1) + ansi.ResetModifyOtherKeys +
		ansi.ResetModeBracketedPaste + ansi.ResetModeAltScreenSaveCursor + ansi.SetModeTextCursorEnable)
	if d.method == ansi.GraphemeWidth {
		d.next.WriteString(ansi.ResetModeUnicodeCore)
	}
	if err := d.flush(); err != nil {
		return err
	}
	return d.console.Restore()
}

// Lend gives the terminal to a program as long as it runs.
func (d *Display) Lend(run func() error) error {
	if err := d.Give(); err != nil {
		return err
	}
	err := run()
	if again := d.Take(); err == nil {
		err = again
	}
	return err
}

// Size returns the terminal's size in cells, or what is usual if it does not tell. It may be called from any goroutine.
func (d *Display) Size() (width, height int) {
	width, height, err := d.console.GetSize()
	if err != nil || width <= 0 || height <= 0 {
		return 80, 24
	}
	return width, height
}

// Hear learns from a message what the terminal can do, and its size.
func (d *Display) Hear(msg tea.Msg) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		d.resize(msg.Width, msg.Height)
	case tea.ColorProfileMsg:
		d.profile = msg.Profile
		if d.renderer != nil {
			d.renderer.SetColorProfile(msg.Profile)
		}
	case tea.ModeReportMsg:
		switch {
		case msg.Mode == ansi.ModeSynchronizedOutput && msg.Value == ansi.ModeReset:
			d.whole = true
		case msg.Mode == ansi.ModeUnicodeCore && !msg.Value.IsNotRecognized() && !msg.Value.IsPermanentlyReset():
			d.next.WriteString(ansi.SetModeUnicodeCore)
			d.method = ansi.GraphemeWidth
			d.resize(d.Size())
		}
	}
}

// Write writes a sequence of control characters that changes nothing that is drawn.
func (d *Display) Write(sequence string) error {
	if !d.taken {
		return nil
	}
	d.next.WriteString(sequence)
	return d.flush()
}

// Draw shows a frame, which has to be as large as the terminal. It blocks while the terminal accepts nothing.
func (d *Display) Draw(v tea.View) error {
	if !d.taken || d.current && reflect.DeepEqual(v, d.shown) {
		return nil
	}
	if d.whole {
		d.next.WriteString(ansi.SetModeSynchronizedOutput)
	}
	if d.shown.Cursor != nil {
		d.next.WriteString(ansi.ResetModeTextCursorEnable) // it would jump
	}
	d.setModes(v)
	d.compose(v.Content)
	d.renderer.Render(d.cells.RenderBuffer)
	if v.Cursor != nil {
		d.renderer.MoveTo(v.Cursor.X, v.Cursor.Y)
	}
	if err := d.renderer.Flush(); err != nil {
		return err
	}
	if v.Cursor != nil {
		d.next.WriteString(ansi.SetModeTextCursorEnable)
	}
	if d.whole {
		d.next.WriteString(ansi.ResetModeSynchronizedOutput)
	}
	d.shown, d.current = v, true
	return d.flush()
}

// compose draws into cells the rows of a frame that differ from those of the one before. The styles of a row end with
// it.
func (d *Display) compose(content string) {
	for y := range d.rows {
		var row string
		if row, content, _ = strings.Cut(content, "\n"); row != d.rows[y] {
			uv.NewStyledString(row).Draw(d.cells, uv.Rect(0, y, d.cells.Width(), 1))
			d.rows[y] = row
		}
	}
}

// setModes sets what a frame asks of the terminal besides its cells.
func (d *Display) setModes(v tea.View) {
	if !d.current || v.WindowTitle != d.shown.WindowTitle {
		d.next.WriteString(ansi.SetWindowTitle(v.WindowTitle))
	}
	if !d.current || v.MouseMode != d.shown.MouseMode {
		d.setMouse(v.MouseMode)
	}
	if !d.current || v.ReportFocus != d.shown.ReportFocus {
		d.setFocus(v.ReportFocus)
	}
	before := d.shown.Cursor
	if c := v.Cursor; c != nil && (before == nil || !d.current || c.Shape != before.Shape || c.Blink != before.Blink) {
		uv.EncodeCursorStyle(&d.next, uv.CursorShape(c.Shape), c.Blink)
	}
}

func (d *Display) setMouse(mode tea.MouseMode) {
	of := map[tea.MouseMode]uv.MouseMode{
		tea.MouseModeCellMotion: uv.MouseModeDrag, tea.MouseModeAllMotion: uv.MouseModeMotion,
	}[mode]
	encoding := uv.MouseEncodingSGR
	if of == uv.MouseModeNone {
		encoding = uv.MouseEncodingLegacy
	}
	uv.EncodeMouseMode(&d.next, of)
	uv.EncodeMouseEncoding(&d.next, encoding)
}

// setFocus sets whether the terminal reports that it gets and loses the focus.
func (d *Display) setFocus(reported bool) {
	if reported {
		d.next.WriteString(ansi.SetModeFocusEvent)
	} else {
		d.next.WriteString(ansi.ResetModeFocusEvent)
	}
}
