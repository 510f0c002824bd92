package query

import "strings"

// Level is the severity that a line states.
type Level int

const (
	NoLevel Level = iota // it states none
	Debug
	Info
	Warning
	Error
)

var levelNames = []string{"", "debug", "info", "warning", "error"}

// String returns the level's name, empty for none.
func (l Level) String() string { return levelNames[l] }

// LevelOf returns the level for a word of the common libraries, in any case.
func LevelOf(name string) Level {
	switch strings.ToLower(name) {
	case "trace", "debug", "dbg", "verbose", "silly", "fine", "finer", "finest":
		return Debug
	case "info", "inf", "notice", "log", "information", "http", "config":
		return Info
	case "warn", "warning", "wrn":
		return Warning
	case "error", "err", "fatal", "panic", "critical", "crit", "alert", "emerg", "emergency", "severe", "dpanic", "ftl":
		return Error
	}
	return NoLevel
}
