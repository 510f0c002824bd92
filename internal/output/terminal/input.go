package terminal

import (
	"fmt"
	"strings"
	"unicode/utf8"

	"github.com/charmbracelet/x/ansi"

	"omnivigil/internal/api"
)

// Keys and the mouse are encoded as by xterm ("Xterm Control Sequences", Moy and Dickey: PC-Style Function Keys,
// Mouse Tracking), for the modes that the program has set.

// Bytes returns what the program reads for an input, in the order of its fields. An error names a key or mouse event
// that does not exist.
func (t *Terminal) Bytes(in api.Input) ([]byte, error) {
	t.mu.Lock()
	s := &t.scan
	defer t.mu.Unlock()
	var out strings.Builder
	if in.Text != "" {
		out.WriteString(s.typed(in.Text, in.Paste))
	}
	for _, name := range in.Keys {
		k, err := s.key(name)
		if err != nil {
			return nil, err
		}
		out.WriteString(k)
	}
	if in.Mouse != nil {
		m, err := s.mouseBytes(*in.Mouse)
		if err != nil {
			return nil, err
		}
		out.WriteString(m)
	}
	switch {
	case in.Focus != "" && in.Focus != "in" && in.Focus != "out":
		return nil, fmt.Errorf("focus must be \"in\" or \"out\", not %q", in.Focus)
	case !s.modes[focusEvents]:
	case in.Focus == "in":
		out.WriteString(ansi.Focus)
	case in.Focus == "out":
		out.WriteString(ansi.Blur)
	}
	return []byte(out.String()), nil
}

// typed is a text that is typed or pasted.
func (s *scanner) typed(text string, paste bool) string {
	enter := strings.NewReplacer("\r\n", "\r", "\n", "\r")
	if !paste || !s.modes[bracketed] {
		return enter.Replace(text)
	}
	// The text must not have the end of the brackets: the rest would be taken for keys.
	for strings.Contains(text, ansi.BracketedPasteEnd) {
		text = strings.ReplaceAll(text, ansi.BracketedPasteEnd, "")
	}
	return ansi.BracketedPasteStart + enter.Replace(text) + ansi.BracketedPasteEnd
}

// finals are keys whose sequences end with a letter.
var finals = map[string]byte{
	"up":    'A',
	"down":  'B',
	"right": 'C',
	"left":  'D',
	"begin": 'E',
	"end":   'F',
	"home":  'H',
	"f1":    'P',
	"f2":    'Q',
	"f3":    'R',
	"f4":    'S',
}

// numbered are keys whose sequences have a number.
var numbered = map[string]int{
	"insert": 2,
	"delete": 3,
	"pgup":   5,
	"pgdown": 6,
	"f5":     15,
	"f6":     17,
	"f7":     18,
	"f8":     19,
	"f9":     20,
	"f10":    21,
	"f11":    23,
	"f12":    24,
	"f13":    25,
	"f14":    26,
	"f15":    28,
	"f16":    29,
	"f17":    31,
	"f18":    32,
	"f19":    33,
	"f20":    34,
}

// plain are keys that are one character.
var plainKeys = map[string]string{"enter": "\r", "tab": "\t", "backspace": "\x7f", "esc": "\x1b", "space": " "}

// key is the sequence of a key, by its name in Bubble Tea: modifiers and the key, with "+" between.
func (s *scanner) key(name string) (string, error) {
	shift, alt, ctrl := false, false, false
	key := name
	for done := false; !done; {
		modifier, rest, _ := strings.Cut(key, "+")
		done = rest == ""
		switch {
		case done:
		case modifier == "shift":
			shift, key = true, rest
		case modifier == "alt" || modifier == "meta":
			alt, key = true, rest
		case modifier == "ctrl":
			ctrl, key = true, rest
		default:
			done = true
		}
	}
	modifiers := 1
	for bit, on := range []bool{shift, alt, ctrl} {
		if on {
			modifiers += 1 << bit
		}
	}
	if final, ok := finals[key]; ok {
		switch {
		case modifiers > 1:
			return fmt.Sprintf("\x1b[1;%d%c", modifiers, final), nil
		case s.modes[cursorKeys] || key[0] == 'f' && len(key) == 2:
			return "\x1bO" + string(final), nil
		}
		return "\x1b[" + string(final), nil
	}
	if number, ok := numbered[key]; ok {
		if modifiers > 1 {
			return fmt.Sprintf("\x1b[%d;%d~", number, modifiers), nil
		}
		return fmt.Sprintf("\x1b[%d~", number), nil
	}
	return character(name, key, shift, alt, ctrl)
}

// character is the sequence of a key for a character.
func character(name, key string, shift, alt, ctrl bool) (string, error) {
	text, named := plainKeys[key]
	switch {
	case named && key == "tab" && shift:
		text = "\x1b[Z"
	case named && key == "space" && ctrl:
		text = "\x00"
	case named && key == "backspace" && ctrl:
		text = "\b"
	case named:
	case utf8.RuneCountInString(key) != 1 && ansi.StringWidth(key) > 2 || key == "":
		return "", fmt.Errorf(
			"there is no key %q; keys have names such as \"enter\", \"ctrl+c\", \"shift+up\", \"f5\"",
			name,
		)
	case ctrl:
		// The control characters of ECMA-48 are these letters and symbols without their upper bits.
		c := strings.ToUpper(key)[0]
		switch {
		case len(key) == 1 && c >= '@' && c <= '_':
			text = string(c & 0x1f)
		case key == "?":
			text = "\x7f"
		case key == "/":
			text = "\x1f"
		default:
			text = key
		}
	case shift:
		text = strings.ToUpper(key)
	default:
		text = key
	}
	if alt {
		text = "\x1b" + text
	}
	return text, nil
}

// mouse is the mouse events that the program asks for.
func (s *scanner) mouse() string {
	switch {
	case s.modes[mouseAll]:
		return "all"
	case s.modes[mouseDrags]:
		return "drags"
	case s.modes[mouseClicks]:
		return "clicks"
	}
	return ""
}

var buttons = map[string]ansi.MouseButton{
	"": ansi.MouseNone, "left": ansi.MouseLeft, "middle": ansi.MouseMiddle, "right": ansi.MouseRight,
	"wheel-up": ansi.MouseWheelUp, "wheel-down": ansi.MouseWheelDown,
}

// mouseBytes is the sequence of a mouse event; empty: the program does not ask for it.
func (s *scanner) mouseBytes(m api.Mouse) (string, error) {
	button, known := buttons[m.Button]
	switch {
	case !known:
		return "", fmt.Errorf("the mouse has no button %q", m.Button)
	case m.Does != "press" && m.Does != "release" && m.Does != "move":
		return "", fmt.Errorf("the mouse does \"press\", \"release\" or \"move\", not %q", m.Does)
	case m.Col < 0 || m.Row < 0 || m.Col >= api.MaxCells || m.Row >= api.MaxCells:
		return "", fmt.Errorf("there is no cell %d, %d", m.Col, m.Row)
	}
	wants := s.mouse()
	if wants == "" || m.Does == "move" && (wants == "clicks" || wants == "drags" && m.Button == "") {
		return "", nil
	}
	code := ansi.EncodeMouseButton(button, m.Does == "move", m.Shift, m.Alt, m.Ctrl)
	if s.modes[mouseSGR] {
		return ansi.MouseSgr(code, m.Col, m.Row, m.Does == "release"), nil
	}
	const farthest = 222 // the limit of one byte
	if m.Col > farthest || m.Row > farthest {
		return "", nil
	}
	if m.Does == "release" {
		const released = 3
		code = code&^3 | released
	}
	const offset = 32 // makes a number a character; positions count from 1
	return "\x1b[M" + string([]byte{code + offset, byte(m.Col) + offset + 1, byte(m.Row) + offset + 1}), nil
}
