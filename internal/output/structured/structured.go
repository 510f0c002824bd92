// Package structured parses lines that programs write for programs, JSON or logfmt, into time, level, message and
// fields, and finds the level at the beginning of other lines. Its functions take the visible text of one line, keep
// nothing, and may be called from any goroutine.
package structured

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-logfmt/logfmt"

	"omnivigil/internal/output/query"
	"omnivigil/internal/text/lazyregexp"
)

// Line is a structured line.
type Line struct {
	At      string // the time as it is written; empty: none
	Level   query.Level
	Message string
	Fields  []Field // all others, in order
}

// Field is a name and its value.
type Field struct{ Name, Value string }

// The names that the common libraries use for the time, the level and the message.
var (
	timeNames    = []string{"time", "ts", "timestamp", "@timestamp", "t", "date", "datetime"}
	levelNames   = []string{"level", "lvl", "severity", "log.level", "loglevel", "levelname"}
	messageNames = []string{"msg", "message", "event", "@message"}
)

// longestLine is the length in bytes from which lines are not parsed.
const longestLine = 64 << 10

// Parse parses a line. It returns false if the line is not structured: JSON is one object with a message or a level;
// logfmt is only pairs, at least two, and one of them is the level or the message.
func Parse(text string) (Line, bool) {
	text = strings.TrimSpace(text)
	switch {
	case len(text) > longestLine:
		return Line{}, false
	case strings.HasPrefix(text, "{") && strings.HasSuffix(text, "}"):
		return parseJSON(text)
	case strings.IndexByte(text, '=') > 0:
		return parseLogfmt(text)
	}
	return Line{}, false
}

func parseJSON(text string) (Line, bool) {
	in := json.NewDecoder(strings.NewReader(text))
	in.UseNumber()
	if t, err := in.Token(); err != nil || t != json.Delim('{') {
		return Line{}, false
	}
	var fields []Field
	for in.More() {
		name, err := in.Token()
		if err != nil {
			return Line{}, false
		}
		var value json.RawMessage
		if err := in.Decode(&value); err != nil {
			return Line{}, false
		}
		fields = append(fields, Field{fmt.Sprint(name), plain(value)})
	}
	if _, err := in.Token(); err != nil || in.More() {
		return Line{}, false
	}
	return lineOf(fields, 1)
}

// plain is a JSON value as it is shown: a string without quotes, everything else unchanged.
func plain(value json.RawMessage) string {
	var text string
	if json.Unmarshal(value, &text) == nil && !bytes.Equal(value, []byte("null")) {
		return text
	}
	return string(value)
}

// isPairs is the beginning of logfmt: other text may have "=" in it, too.
var isPairs = lazyregexp.New(`^[A-Za-z_@][\w.@/-]*=("|\S| |$)`)

func parseLogfmt(text string) (Line, bool) {
	if !isPairs.MatchString(text) {
		return Line{}, false
	}
	in := logfmt.NewDecoder(strings.NewReader(text))
	if !in.ScanRecord() {
		return Line{}, false
	}
	var fields []Field
	for in.ScanKeyval() {
		if in.Value() == nil && !strings.Contains(text, string(in.Key())+"=") { // a single word: this is prose
			return Line{}, false
		}
		fields = append(fields, Field{string(in.Key()), string(in.Value())})
	}
	if in.Err() != nil {
		return Line{}, false
	}
	return lineOf(fields, 2)
}

// lineOf separates a line's time, level and message from its other fields.
func lineOf(fields []Field, least int) (Line, bool) {
	var l Line
	if len(fields) < least {
		return l, false
	}
	known := false
	for _, f := range fields {
		name := strings.ToLower(f.Name)
		switch {
		case l.At == "" && slices.Contains(timeNames, name):
			l.At = f.Value
		case l.Level == query.NoLevel && slices.Contains(levelNames, name) && levelOf(f.Value) != query.NoLevel:
			l.Level, known = levelOf(f.Value), true
		case l.Message == "" && slices.Contains(messageNames, name):
			l.Message, known = f.Value, true
		default:
			l.Fields = append(l.Fields, f)
		}
	}
	return l, known
}

// levelOf parses a level by its name, or by the numbers of Node's common loggers, in tens from 10 (trace) to 60
// (fatal).
func levelOf(value string) query.Level {
	switch value {
	case "10", "20":
		return query.Debug
	case "30":
		return query.Info
	case "40":
		return query.Warning
	case "50", "60":
		return query.Error
	}
	return query.LevelOf(value)
}

// Time is the line's time, if it has a common form: RFC 3339, ISO 8601, or seconds, milliseconds or smaller units
// since 1970.
func (l Line) Time() (time.Time, bool) {
	for _, form := range []string{time.RFC3339Nano, "2006-01-02T15:04:05.999Z0700", "2006-01-02T15:04:05.999",
		"2006-01-02 15:04:05.999"} {
		if t, err := time.ParseInLocation(form, l.At, time.Local); err == nil {
			return t, true
		}
	}
	n, err := strconv.ParseFloat(l.At, 64)
	if err != nil || n < 1e9 {
		return time.Time{}, false
	}
	for _, unit := range []float64{1, 1e3, 1e6, 1e9} {
		if seconds := n / unit; seconds < 1e10 {
			return time.Unix(0, int64(seconds*1e9)), true
		}
	}
	return time.Time{}, false
}

// beginsWith is the level at the beginning of a plain line, perhaps after a time or a name.
var beginsWith = lazyregexp.New(
	`^(?:[\d:.,/TZ+ -]*|\S+)\s*[\[<(|]?\b(TRACE|DEBUG|INFO|NOTICE|WARN|WARNING|ERROR|FATAL|PANIC|CRITICAL|SEVERE` +
		`|trace|debug|info|notice|warn|warning|error|fatal|panic|critical)\b[\]>)|:]?(\s|$)`,
)

// saysError is the beginning of an error message in the common languages: the name of an error or exception, or Go's
// panic.
var saysError = lazyregexp.New(
	`^(Uncaught |Caused by: |Exception in thread \S+ )?([\w.]*(Error|Exception)(\s\[\w+\])?:|panic: |fatal error: )` +
		`|^\S+:\d+:in .*\(\w*Error\)$`,
)

// LevelOf returns the level of a line, structured or not; NoLevel: it states none.
func LevelOf(text string) query.Level {
	if l, is := Parse(text); is {
		return l.Level
	}
	if saysError.MatchString(text[:min(len(text), 200)]) {
		return query.Error
	}
	if m := beginsWith.FindStringSubmatch(text[:min(len(text), 200)]); m != nil {
		return query.LevelOf(m[1])
	}
	return query.NoLevel
}
