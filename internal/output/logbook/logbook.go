// Package logbook stores every line that the processes of a session write, and reads any part of them in time that
// does not depend on the amount of output. Start reading at Book, which writes, and View, which reads.
//
// # Format
//
// A log is a directory of segments, each of two files that are only appended to:
//
//	0001-2026-11-25.log     the lines, as "15:04:05.000 NAME  text"
//	0001-2026-11-25.index   what the text does not say
//
// The day is that of the lines: a segment ends at midnight, or when it is large enough, and is not changed afterwards
// until it is deleted as a whole. The text is what the plain stream prints, so that grep and less are useful on it:
// events of Omnivigil have its own name, and the unit's before the text; colors (SGR, ECMA-48) and links (OSC 8) are
// in it, and no other control characters except tabs.
//
// The index begins with the eight bytes of magic, the number of the segment's first line and a time, both as eight
// bytes, little-endian. Records follow. All their numbers are unsigned varints (encoding/binary), unless stated
// otherwise; a time is nanoseconds since 1970.
//
//	1 LENGTH RUN RIPPLE STREAM TONE HEAD UNIT CHECK   a source of lines; the first has the id 0
//	ID+2 LATER LINES BYTES CHECK                      a batch: so many lines of that source
//
// LENGTH is the number of bytes before CHECK. STREAM and TONE are one byte each; the highest bit of STREAM means that
// the line continues the previous one of its run. HEAD is the number of bytes of each line before its text. LATER is
// the time since the previous batch, or since the index's time, BYTES the length in the text file, with line ends.
// CHECK is one byte: the sum of the bytes of the record before it, with the highest bit set.
//
// # Publication
//
// The text of a batch is written before its record, so the text of every complete record exists: the length of the
// index publishes it. Anyone may read a log while it is written, without asking the writer. Readers ignore an
// incomplete record at the end; text without a record, which only a crash of the machine leaves, is assigned by the
// beginnings of its lines.
package logbook

import "time"

// Stream is the kind of a line.
type Stream uint8

const (
	Output Stream = iota // written by a process
	Opens                // Omnivigil's event that a run begins
	Ends                 // that it has ended
	Note                 // any other event
)

// Tone is the meaning of a line for the user, if known.
type Tone uint8

const (
	Neutral Tone = iota
	Current
	Moving
	Stale
	Broken
)

// Entry is what is stored with the text of a line.
type Entry struct {
	Unit   string // "": an event about the project
	Run    int
	Ripple int // that the run or the event belongs to; 0: none
	Stream Stream
	Tone   Tone
	// Continues: it continues the previous line of its run, which was shown before it had an end.
	Continues bool
}

// Line is one line of a log.
type Line struct {
	Number int64 // in the session, from 0
	At     time.Time
	Text   string // without the line end; may have colors and links
	Entry
}

// Self is the name of Omnivigil's events in the text.
const Self = "omnivigil"
