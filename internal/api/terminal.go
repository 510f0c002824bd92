package api

import (
	"context"
	"time"
)

// Terminal is the terminals of units: their screens, and input for them. Its methods may be called from any
// goroutine.
type Terminal interface {
	// Screen returns the screen of a unit's newest run, even after that has ended.
	Screen(ctx context.Context, unit string) (Screen, error)

	// FollowScreen calls show with the screen of a unit's terminal, and again whenever it has changed, at most
	// MaxPictures times a second; from the second call on with only the changed lines. Until it returns, with q.Hand
	// set, the face is the one that types into the unit. It returns nil when the project has ended, a *Refusal if
	// another face is typing into the unit and q.Take is not set, and otherwise the error of show or of the context.
	FollowScreen(ctx context.Context, q ScreenQuery, show func(Screen) error) error

	// Input sends input to a unit's terminal. A *Refusal tells why not: nothing runs, or another face is typing into
	// it.
	Input(ctx context.Context, in Input) error
}

// MaxPictures is the maximum number of screens a second for a face. The first change after a pause is shown at once.
const MaxPictures = 30

// ScreenQuery is the terminal to follow, and how.
type ScreenQuery struct {
	Unit string
	Face Face
	Hand bool // to type into it
	Take bool // take over from another face, which continues watching
	Size Size // with Hand: the size of the terminal; zero: unchanged
}

// Size is the size of a terminal, in cells.
type Size struct {
	Cols int `json:"cols"`
	Rows int `json:"rows"`
}

// The maximum size of a terminal.
const (
	MaxCells = 1000
	MaxArea  = 250_000
)

// Bounded returns the size within the limits: at least one cell, with fewer rows if it is too large.
func (s Size) Bounded() Size {
	cols := min(max(s.Cols, 1), MaxCells)
	return Size{Cols: cols, Rows: min(max(s.Rows, 1), MaxCells, MaxArea/cols)}
}

// Screen is what a unit's terminal shows.
type Screen struct {
	Unit   string       `json:"unit"`
	Run    int          `json:"run"`
	Number int64        `json:"number"` // ascending
	Size   Size         `json:"size"`
	Lines  []ScreenLine `json:"lines"` // those that have changed since the screen before; in the first screen, all
	Cursor Cursor       `json:"cursor"`
	// Drawing: the program draws the whole screen, which is not in the log.
	Drawing bool   `json:"drawing,omitempty"`
	Title   string `json:"title,omitempty"` // the window title that the program has set
	Mouse   string `json:"mouse,omitempty"` // the mouse events that it asks for: "clicks", "drags", "all"
	Ended   bool   `json:"ended,omitempty"` // the run has ended; this is its last screen
	Hand    *Face  `json:"hand,omitempty"`  // the face that is typing into it
	Ask     *Ask   `json:"ask,omitempty"`   // what it waits for; nil: nothing
}

// ScreenLine is one row of a terminal.
type ScreenLine struct {
	Row   int     `json:"row"` // from 0
	Parts []Cells `json:"parts"`
}

// Cells are adjacent cells with the same style.
type Cells struct {
	Text  string `json:"text"`
	Width int    `json:"width"` // the number of cells
	Style
}

// Style is the style of cells. A color is "" for the terminal's own, "0" to "255" for one of its palette, or
// "#rrggbb".
type Style struct {
	Foreground string `json:"fg,omitempty"`
	Background string `json:"bg,omitempty"`
	Bold       bool   `json:"bold,omitempty"`
	Faint      bool   `json:"faint,omitempty"`
	Italic     bool   `json:"italic,omitempty"`
	Underline  bool   `json:"underline,omitempty"`
	Blink      bool   `json:"blink,omitempty"`
	Reverse    bool   `json:"reverse,omitempty"`
	Struck     bool   `json:"struck,omitempty"`
}

// Cursor is a terminal's cursor.
type Cursor struct {
	Col    int    `json:"col"`
	Row    int    `json:"row"`
	Hidden bool   `json:"hidden,omitempty"`
	Shape  string `json:"shape,omitempty"` // "bar", "underline"; empty: a block
	Steady bool   `json:"steady,omitempty"`
}

// Ask tells that a unit waits for input.
type Ask struct {
	Kind  AskKind   `json:"kind"`
	Text  string    `json:"text,omitempty"` // of a line: the prompt
	Since time.Time `json:"since"`
}

// AskKind is the kind of input that a unit waits for.
type AskKind string

const (
	AskLine     AskKind = "line"     // at a prompt
	AskPassword AskKind = "password" // a prompt that does not show what is typed
	AskScreen   AskKind = "screen"   // a program that draws the whole screen is idle
)

// For is what a unit waits for, as the end of a sentence that begins with "it waits for".
func (a *Ask) For() string {
	what := a.Short()
	if a.Text != "" {
		what += ": " + a.Text
	}
	return what
}

// Short is For without the prompt.
func (a *Ask) Short() string {
	return map[AskKind]string{AskLine: "an answer", AskPassword: "a password", AskScreen: "a key"}[a.Kind]
}

// Input is what a user does at a terminal. What is set is sent to the program in the order of the fields.
type Input struct {
	Unit string `json:"unit"`
	Face int    `json:"face,omitempty"` // the process of the face
	Size *Size  `json:"size,omitempty"` // the new size; only from the face that is typing into it
	// Text is typed as it is; a line end is the key enter. With Paste it is pasted, as bracketed paste for programs
	// that ask for it.
	Text  string   `json:"text,omitempty"`
	Paste bool     `json:"paste,omitempty"`
	Keys  []string `json:"keys,omitempty"` // such as "enter", "ctrl+c", "shift+up", "f5", "ä"
	Mouse *Mouse   `json:"mouse,omitempty"`
	Focus string   `json:"focus,omitempty"` // "in" or "out": whether the terminal has the focus
}

// Mouse is a mouse event, in cells from 0.
type Mouse struct {
	Does   string `json:"does"`             // "press", "release", "move"
	Button string `json:"button,omitempty"` // "left", "middle", "right", "wheel-up", "wheel-down"
	Col    int    `json:"col"`
	Row    int    `json:"row"`
	Shift  bool   `json:"shift,omitempty"`
	Alt    bool   `json:"alt,omitempty"`
	Ctrl   bool   `json:"ctrl,omitempty"`
}
