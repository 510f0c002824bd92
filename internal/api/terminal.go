package api

import (
	"context"
	"time"
)

// Terminal is the terminals of units: what they show, and what is typed into them. Its methods may be
// called from any goroutine.
type Terminal interface {
	// Screen returns what a unit's terminal shows: that of its newest run, also when that has ended.
	Screen(ctx context.Context, unit string) (Screen, error)

	// FollowScreen calls show with what a unit's terminal shows, and again whenever that has changed,
	// at most MaxPictures times a second; from the second time on with only the lines that have
	// changed. While it continues and q.Hand is set, the face has hands on the unit. It returns nil when
	// the project has ended, a *Refusal where another face has hands on the unit and q.Take is not
	// set, and otherwise the error of show or of the context.
	FollowScreen(ctx context.Context, q ScreenQuery, show func(Screen) error) error

	// Input gives a unit's terminal what a user types or does. A *Refusal says why not: nothing
	// runs, or another face has hands on it.
	Input(ctx context.Context, in Input) error
}

// MaxPictures is how often in a second a face gets a terminal's screen, at most. The first change after a
// pause comes at once.
const MaxPictures = 30

// ScreenQuery says whose terminal is to be followed, and how.
type ScreenQuery struct {
	Unit string
	Face Face
	Hand bool // have hands on it
	Take bool // also where another face has them: that one continues watching
	Size Size // that the terminal is to have, if Hand is set; zero: as it is
}

// Size is that of a terminal, in cells.
type Size struct {
	Cols int `json:"cols"`
	Rows int `json:"rows"`
}

// A terminal is given at most so many columns, rows, and cells in all.
const (
	MaxCells = 1000
	MaxArea  = 250_000
)

// Bounded is the size, within what a terminal is given: at least one cell, and rows are left out where it is too large.
func (s Size) Bounded() Size {
	cols := min(max(s.Cols, 1), MaxCells)
	return Size{Cols: cols, Rows: min(max(s.Rows, 1), MaxCells, MaxArea/cols)}
}

// Screen is what a unit's terminal shows.
type Screen struct {
	Unit   string       `json:"unit"`
	Run    int          `json:"run"`
	Number int64        `json:"number"` // grows with what it shows
	Size   Size         `json:"size"`
	Lines  []ScreenLine `json:"lines"` // those that have changed since the one before; in the first, all
	Cursor Cursor       `json:"cursor"`
	// Drawing says that the program draws the whole screen, which is not in the log.
	Drawing bool   `json:"drawing,omitempty"`
	Title   string `json:"title,omitempty"` // that the program gives its window
	Mouse   string `json:"mouse,omitempty"` // what it wants to hear of the mouse: "clicks", "drags", "all"
	Ended   bool   `json:"ended,omitempty"` // the run has: this is what it left
	Hand    *Face  `json:"hand,omitempty"`  // who has hands on it
	Ask     *Ask   `json:"ask,omitempty"`   // what it waits for
}

// ScreenLine is one row of a terminal.
type ScreenLine struct {
	Row   int     `json:"row"` // from 0
	Parts []Cells `json:"parts"`
}

// Cells are adjacent cells that look alike.
type Cells struct {
	Text  string `json:"text"`
	Width int    `json:"width"` // how many cells they are
	Style
}

// Style is how cells look. A color is "" for the terminal's own, "0" to "255" for one of its
// palette, or "#rrggbb".
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

// Ask is that a unit waits for input.
type Ask struct {
	Kind  AskKind   `json:"kind"`
	Text  string    `json:"text,omitempty"` // of a line: what it says
	Since time.Time `json:"since"`
}

// AskKind is how a unit waits for input.
type AskKind string

const (
	AskLine     AskKind = "line"     // at a prompt
	AskPassword AskKind = "password" // and shows nothing of what is typed
	AskScreen   AskKind = "screen"   // a program that draws the whole screen is at rest
)

// For is what a unit waits for, as the end of a sentence such as "it waits for".
func (a *Ask) For() string {
	what := a.Short()
	if a.Text != "" {
		what += ": " + a.Text
	}
	return what
}

// Short is For without what the prompt says.
func (a *Ask) Short() string {
	return map[AskKind]string{AskLine: "an answer", AskPassword: "a password", AskScreen: "a key"}[a.Kind]
}

// Input is what a user does at a terminal. What is set is given to the program in the order of
// the fields.
type Input struct {
	Unit string `json:"unit"`
	Face int    `json:"face,omitempty"` // the number of the face's process
	Size *Size  `json:"size,omitempty"` // the terminal gets; only for the face that has hands on it
	// Text is typed as it is; the end of a line is the key enter. Paste: it is pasted, which programs
	// that ask for it can tell.
	Text  string   `json:"text,omitempty"`
	Paste bool     `json:"paste,omitempty"`
	Keys  []string `json:"keys,omitempty"` // such as "enter", "ctrl+c", "shift+up", "f5", "ä"
	Mouse *Mouse   `json:"mouse,omitempty"`
	Focus string   `json:"focus,omitempty"` // "in" or "out": whether the user looks at it
}

// Mouse is something that was done with the mouse, in cells from 0.
type Mouse struct {
	Does   string `json:"does"`             // "press", "release", "move"
	Button string `json:"button,omitempty"` // "left", "middle", "right", "wheel-up", "wheel-down"
	Col    int    `json:"col"`
	Row    int    `json:"row"`
	Shift  bool   `json:"shift,omitempty"`
	Alt    bool   `json:"alt,omitempty"`
	Ctrl   bool   `json:"ctrl,omitempty"`
}
