// Package logbook stores every line that the processes of a session write, and reads any part of them in time that
// does not depend on their number. Start reading at Book, which writes, and View, which reads.
//
// # Format
//
// A log is a folder of segments, each of two files that are only appended to:
//
//	0001-2026-11-25.log     the lines, as "15:04:05.000 NAME  text"
//	0001-2026-11-25.index   what the text does not say
//
// The day is that of the lines, so a segment ends at midnight, or when it is large enough;
// then it is never touched again, until it is deleted whole. The text is what the plain
// stream prints, so that grep and less on it help: what Omnivigil says carries its own name,
// and the unit's before the text; colors (SGR, ECMA-48) and links (OSC 8) are in it, and no
// other control character but tabs.
//
// The index begins with the eight bytes of magic, the number of the segment's first line and
// a moment, both as eight bytes, little-endian. Records follow. All their numbers are
// unsigned varints (encoding/binary), except where said otherwise; a moment is nanoseconds
// since 1970.
//
//	1 LENGTH RUN RIPPLE STREAM TONE HEAD UNIT CHECK   a source of lines; the first has the id 0
//	ID+2 LATER LINES BYTES CHECK                      a batch: so many lines of that source
//
// LENGTH is how many bytes follow before CHECK. STREAM and TONE are a byte each; the
// highest bit of STREAM says that the line continues the one of its run before. HEAD is how many bytes of
// each line come before the text that was written. LATER is how much later than the batch
// before, or than the index's moment, these lines were written, BYTES their length in the
// text file with their ends. CHECK is a byte: the sum of those of the record before it, with the
// highest bit set.
//
// # Publication
//
// The text of a batch is written before its record, so whatever whole records an index has
// stand for text that is there: its length publishes them. Anyone may read a log while it is
// written, without asking the writer. What an end of any kind has torn off a record, readers
// leave out; text without a record, which only a crash of the machine leaves, is reported by the
// beginnings of its lines.
package logbook

import "time"

// Stream says what a line is.
type Stream uint8

const (
	Output Stream = iota // written by a process
	Opens                // Omnivigil's note that a run begins
	Ends                 // and that it has ended
	Note                 // anything else that Omnivigil has to say
)

// Tone is the meaning that a line has for the user, as far as Omnivigil knows.
type Tone uint8

const (
	Neutral Tone = iota
	Current
	Moving
	Stale
	Broken
)

// Entry is what is written in addition to the text of a line.
type Entry struct {
	Unit   string // "" where Omnivigil speaks of the whole project
	Run    int
	Ripple int // that the run, or what is said, belongs to; 0 for none
	Stream Stream
	Tone   Tone
	// Continues says that it continues the line of its run before, which was shown before
	// it had an end.
	Continues bool
}

// Line is one line of a log.
type Line struct {
	Number int64 // in the session, from 0
	At     time.Time
	Text   string // without its end; may hold colors and links
	Entry
}

// Self is the name that what Omnivigil says carries in the text.
const Self = "omnivigil"
