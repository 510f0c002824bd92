// Package query is the language in which faces ask for lines: filters select lines, patterns find text in them. It is
// the same on the screen, in commands and over the socket. The package knows nothing of logs. Its values may be used
// from any goroutine. Start reading at Filter.
//
// # The language of filters
//
// A filter is words separated by spaces. A line must match all of them:
//
//	unit=tides,berths   of one of these units
//	run=3               of that run of its unit
//	ripple=12           that ripple 12 has brought about; ripple=last: the newest save
//	level=warning       at least a warning: error, warning, info or debug
//	event=failure       Omnivigil's own lines of that kind: start or end of a run, failure, note;
//	                    failures are also lines that report a failed test or an error
//	refused             its text has "refused"; "no tide" where there are spaces
//	/time(d )?out/      its text matches an expression (Go's, RE2)
//	!health             the opposite of any of these: its text does not have "health"
//
// Text in lowercase letters matches any case; with an uppercase letter it matches exactly. The same is true of
// expressions.
package query

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Field is what a term is about.
type Field string

const (
	Units   Field = "unit"
	Run     Field = "run"
	Ripple  Field = "ripple"
	AtLeast Field = "level"
	Events  Field = "event"
	Text    Field = ""
)

// Last is the number in a term for the newest ripple of a save.
const Last = -1

// Term is one word of a filter.
type Term struct {
	Not     bool
	Field   Field
	Units   []string // of Units
	Number  int      // of Run and Ripple
	Level   Level    // of AtLeast
	Event   Event    // of Events
	Pattern Pattern  // of Text
}

// Event is a kind of Omnivigil's events.
type Event string

const (
	Start   Event = "start"   // of a run or pass
	End     Event = "end"     // of a run or pass
	Failure Event = "failure" // of anything that is broken; and output that reports a failed test or an error
	Note    Event = "note"    // any other
)

// Origin is where a line comes from.
type Origin struct {
	Unit        string
	Run, Ripple int
	Event       Event // empty for output
	Broken      bool  // the event reports that something is broken
}

// Filter selects the lines that match all terms. An empty filter selects all lines.
type Filter []Term

// Parse parses a filter. Its errors name the word that is wrong.
func Parse(text string) (Filter, error) {
	var f Filter
	for rest := strings.TrimLeft(text, " "); rest != ""; rest = strings.TrimLeft(rest, " ") {
		t, after, err := parseTerm(rest)
		if err != nil {
			return nil, err
		}
		f, rest = append(f, t), after
	}
	return f, nil
}

func parseTerm(rest string) (t Term, after string, err error) {
	if t.Not = strings.HasPrefix(rest, "!"); t.Not {
		rest = rest[1:]
	}
	switch {
	case strings.HasPrefix(rest, `"`):
		text, after, err := quoted(rest, '"')
		t.Pattern = Pattern{Text: text}
		return t, after, err
	case strings.HasPrefix(rest, "/"):
		text, after, err := quoted(rest, '/')
		if t.Pattern = (Pattern{Text: text, Regexp: true}); err == nil {
			_, err = t.Pattern.Compile()
		}
		return t, after, err
	}
	word, after, _ := strings.Cut(rest, " ")
	name, value, isField := strings.Cut(word, "=")
	if !isField {
		if word == "" {
			return t, after, fmt.Errorf(`"!" needs something after it, such as !health`)
		}
		t.Pattern = Pattern{Text: word}
		return t, after, nil
	}
	t.Field = Field(name)
	switch t.Field {
	case Units:
		t.Units = strings.Split(value, ",")
		if slices.Contains(t.Units, "") {
			err = fmt.Errorf("unit= needs names, such as unit=tides,berths")
		}
	case Run, Ripple:
		if t.Field == Ripple && value == "last" {
			t.Number = Last
			break
		}
		if t.Number, err = strconv.Atoi(value); err != nil || t.Number < 1 {
			err = fmt.Errorf("%s= needs a number, not %q", name, value)
		}
	case AtLeast:
		if t.Level = LevelOf(value); t.Level == NoLevel {
			err = fmt.Errorf("level= must be error, warning, info or debug, not %q", value)
		}
	case Events:
		t.Event = Event(value)
		if !slices.Contains([]Event{Start, End, Failure, Note}, t.Event) {
			err = fmt.Errorf("event= must be start, end, failure or note, not %q", value)
		}
	default:
		err = fmt.Errorf(
			`there is no %s=: a filter knows unit=, run=, ripple=, level= and event=; `+
				`put text that contains "=" in quotes`,
			name,
		)
	}
	return t, after, err
}

// quoted reads what is between two delimiters. A backslash escapes the delimiter and, in text, a backslash.
func quoted(rest string, mark byte) (text, after string, err error) {
	var b strings.Builder
	for i := 1; i < len(rest); i++ {
		switch {
		case rest[i] == '\\' && i+1 < len(rest) && (rest[i+1] == mark || rest[i+1] == '\\'):
			if i++; mark == '/' && rest[i] == '\\' {
				b.WriteByte('\\')
			}
			b.WriteByte(rest[i])
		case rest[i] == mark && i == 1:
			return "", "", fmt.Errorf("there is nothing between %c and %c", mark, mark)
		case rest[i] == mark:
			return b.String(), rest[i+1:], nil
		default:
			b.WriteByte(rest[i])
		}
	}
	return "", "", fmt.Errorf("%s has no second %c", rest, mark)
}

// String returns the filter in its language.
func (f Filter) String() string {
	words := make([]string, len(f))
	for i, t := range f {
		words[i] = t.String()
	}
	return strings.Join(words, " ")
}

// String returns the term in the language of filters.
func (t Term) String() string {
	not := ""
	if t.Not {
		not = "!"
	}
	switch t.Field {
	case Units:
		return not + "unit=" + strings.Join(t.Units, ",")
	case Run:
		return fmt.Sprintf("%srun=%d", not, t.Number)
	case Ripple:
		if t.Number == Last {
			return not + "ripple=last"
		}
		return fmt.Sprintf("%sripple=%d", not, t.Number)
	case AtLeast:
		return not + "level=" + t.Level.String()
	case Events:
		return not + "event=" + string(t.Event)
	}
	return not + t.Pattern.String()
}

// Words describes the filter: "only tides, at least a warning, without "health"".
func (f Filter) Words() string {
	words := make([]string, len(f))
	for i, t := range f {
		words[i] = t.words()
	}
	return strings.Join(words, ", ")
}

func (t Term) words() string {
	switch {
	case t.Field == Units && t.Not:
		return "without " + strings.Join(t.Units, ", ")
	case t.Field == Units:
		return "only " + strings.Join(t.Units, ", ")
	case t.Field == Ripple && t.Number == Last && t.Not:
		return "not what the last save set off"
	case t.Field == Ripple && t.Number == Last:
		return "what the last save set off"
	case t.Field == AtLeast && t.Not:
		return "below " + t.Level.String()
	case t.Field == AtLeast:
		return "at least " + t.Level.String()
	case t.Field == Events && t.Not:
		return "without what is a " + string(t.Event)
	case t.Field == Events:
		return "only what is a " + string(t.Event)
	}
	text := ""
	switch t.Field {
	case Run, Ripple:
		text = fmt.Sprintf("%s %d", t.Field, t.Number)
	default:
		text = t.Pattern.String()
		if !t.Pattern.Regexp && !strings.HasPrefix(text, `"`) {
			text = `"` + text + `"`
		}
	}
	if t.Not {
		return "without " + text
	}
	if t.Field == Text {
		return "with " + text
	}
	return "only " + text
}

// Without returns the filter without the terms of a field, negated or not.
func (f Filter) Without(field Field) Filter {
	return slices.DeleteFunc(slices.Clone(f), func(t Term) bool { return t.Field == field })
}

// Units are the units to which the filter is limited, nil for all, and those that it leaves out.
func (f Filter) Units() (only, muted []string) {
	for _, t := range f {
		switch {
		case t.Field == Units && t.Not:
			muted = append(muted, t.Units...)
		case t.Field == Units:
			only = t.Units
		}
	}
	return only, muted
}

// WithUnits returns the filter, limited to some units unless there are none, and without the lines of the muted ones.
func (f Filter) WithUnits(only, muted []string) Filter {
	f = f.Without(Units)
	if len(only) > 0 {
		f = slices.Insert(f, 0, Term{Field: Units, Units: only})
	}
	if len(muted) > 0 {
		f = append(f, Term{Field: Units, Not: true, Units: muted})
	}
	return f
}

// Has reports whether the filter has a term of a field.
func (f Filter) Has(field Field) bool {
	return slices.ContainsFunc(f, func(t Term) bool { return t.Field == field })
}

// OnLast returns the filter with a number instead of Last.
func (f Filter) OnLast(ripple int) Filter {
	f = slices.Clone(f)
	for i := range f {
		if f[i].Field == Ripple && f[i].Number == Last {
			f[i].Number = ripple
		}
	}
	return f
}

// Meets reports whether lines of an origin may match the filter: all terms except those of level and text are decided
// by the origin.
func (f Filter) Meets(o Origin) bool {
	for _, t := range f {
		is := true
		switch t.Field {
		case Units:
			is = slices.Contains(t.Units, o.Unit)
		case Run:
			is = o.Run == t.Number
		case Ripple:
			is = o.Ripple == t.Number
		case Events:
			is = o.Event == t.Event || t.Event == Failure && o.Broken
		default:
			continue
		}
		if is == t.Not {
			return false
		}
	}
	return true
}
