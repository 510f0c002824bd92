// Package values reads the typed values of settings from a document, and reports what is wrong with them. Start reading
// at Reader.
package values

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"omnivigil/internal/plan"
	"omnivigil/internal/plan/document"
	"omnivigil/internal/text/lazyregexp"
	"omnivigil/internal/text/suggest"
)

// Reader reads the values of one document, to which it adds problems.
type Reader struct {
	*document.Document
	told map[string]bool // reported problems, so that those of [defaults] are reported once
}

// Day is a day of 24 hours.
const Day = 24 * time.Hour

// Wrong reports a problem, once.
func (r *Reader) Wrong(at document.Place, hint, format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	if key := fmt.Sprint(at, text); !r.told[key] {
		if r.told == nil {
			r.told = map[string]bool{}
		}
		r.told[key] = true
		r.Problem(at, text, hint)
	}
}

// Unknown reports a key that is not in known.
func (r *Reader) Unknown(e *document.Entry, where string, known []string) {
	if now, old := renamedKeys[e.Key]; old && slices.Contains(known, now) {
		r.Wrong(e.KeyAt, fmt.Sprintf("write %q", now), "%q is called %q now", e.Key, now)
		return
	}
	hint := "known here: " + strings.Join(known, ", ")
	if near := suggest.Name(e.Key, known); near != "" {
		hint = fmt.Sprintf("did you mean %q?", near)
	}
	r.Wrong(e.KeyAt, hint, "unknown key %q in %s", e.Key, where)
}

// renamedKeys are keys of earlier versions, with their new names.
var renamedKeys = map[string]string{"lull": "debounce"}

// Want reports whether v is of a kind, and adds a problem if not.
func (r *Reader) Want(v *document.Value, kind document.ValueKind, key string) bool {
	if v.Kind == kind {
		return true
	}
	r.Wrong(v.At, "", "%q must be %s, not %s", key, kind, v.Kind)
	return false
}

// Words reads a list of strings.
func (r *Reader) Words(v *document.Value, key string) []string {
	if !r.Want(v, document.ListKind, key) {
		return nil
	}
	words := make([]string, 0, len(v.Items))
	for _, item := range v.Items {
		if r.Want(item, document.TextKind, key) {
			words = append(words, item.Text)
		}
	}
	return words
}

// EachTable calls read for every named table below e, such as [group.NAME].
func (r *Reader) EachTable(e *document.Entry, read func(*document.Entry)) {
	if !r.Want(e.Value, document.TablesKind, e.Key) {
		return
	}
	for _, sub := range e.Value.Table.Entries {
		if r.Want(sub.Value, document.TablesKind, e.Key+"."+sub.Key) {
			read(sub)
		}
	}
}

// Duration reads a duration, such as "150ms".
func (r *Reader) Duration(v *document.Value, key string) time.Duration {
	d, err := time.ParseDuration(v.Text)
	switch {
	case v.Kind != document.TextKind:
		r.Wrong(v.At, "", `%q must be a duration, such as "150ms", not %s`, key, v.Kind)
	case err != nil || d < 0:
		r.Wrong(v.At, "", `%q must be a duration, such as "150ms" or "2s", not %q`, key, v.Text)
	default:
		return d
	}
	return 0
}

// Flag reads true or false.
func (r *Reader) Flag(e *document.Entry) bool {
	return r.Want(e.Value, document.FlagKind, e.Key) && e.Value.Text == "true"
}

// Choice reads a text that must be one of a few, and returns its index.
func (r *Reader) Choice(v *document.Value, key string, choices ...string) int {
	if !r.Want(v, document.TextKind, key) {
		return 0
	}
	if i := slices.Index(choices, v.Text); i >= 0 {
		return i
	}
	hint := "it takes " + strings.Join(choices, " or ")
	if near := suggest.Name(v.Text, choices); near != "" {
		hint = "did you mean " + strconv.Quote(near) + "?"
	}
	r.Wrong(v.At, hint, "%q cannot be %q", key, v.Text)
	return 0
}

// OneOf reads a text that must be one of a few.
func (r *Reader) OneOf(e *document.Entry, choices ...string) string {
	return choices[r.Choice(e.Value, e.Key, choices...)]
}

// Expression reads a regular expression.
func (r *Reader) Expression(v *document.Value, key string) string {
	if !r.Want(v, document.TextKind, key) {
		return ""
	}
	if _, err := regexp.Compile(v.Text); err != nil {
		r.Wrong(v.At, "the syntax is that of Go's package regexp", "%q is not a regular expression: %v", v.Text, err)
	} else if v.Text == "" {
		r.Wrong(v.At, "the syntax is that of Go's package regexp", "%q is empty", key)
	}
	return v.Text
}

// PlainCommand reads a command without variables.
func (r *Reader) PlainCommand(e *document.Entry) plan.Command {
	switch e.Value.Kind {
	case document.TextKind:
		return plan.Command{Shell: e.Value.Text}
	case document.ListKind:
		if words := r.Words(e.Value, e.Key); len(words) > 0 {
			return plan.Command{Words: words}
		}
		r.Wrong(e.Value.At, `write a command, such as ["go", "test", "./..."]`, "%q is empty", e.Key)
	default:
		r.Wrong(e.Value.At, "", "%q must be a string for the shell or a list of words, not %s", e.Key, e.Value.Kind)
	}
	return plan.Command{}
}

// minSize is the minimum size of a useful log or history.
const minSize = 1e6

// Limits reads limits of size and age into limits, which has the defaults.
func (r *Reader) Limits(e *document.Entry, limits *plan.Limits) {
	if !r.Want(e.Value, document.TablesKind, e.Key) {
		return
	}
	for _, limit := range e.Value.Table.Entries {
		switch limit.Key {
		case "size":
			limits.Size = r.Size(limit)
		case "age":
			limits.Age = r.age(limit)
		default:
			r.Unknown(limit, e.Key, []string{"size", "age"})
		}
	}
}

var measure = lazyregexp.New(`^([0-9]+(?:\.[0-9]+)?) ?([A-Za-z]+)$`)

// quantity reads a number with a unit.
func (r *Reader) quantity(e *document.Entry, units map[string]float64, wanted string) float64 {
	if e.Value.Kind != document.TextKind {
		r.Wrong(e.Value.At, "", "%q must be %s, not %s", e.Key, wanted, e.Value.Kind)
		return 0
	}
	if m := measure.FindStringSubmatch(e.Value.Text); m != nil {
		if factor, ok := units[m[2]]; ok {
			if n, err := strconv.ParseFloat(m[1], 64); err == nil && n*factor < 1e18 {
				return n * factor
			}
		}
	}
	r.Wrong(e.Value.At, "", "%q must be %s, not %q", e.Key, wanted, e.Value.Text)
	return 0
}

// Size reads a size, such as "500 MB", in bytes.
func (r *Reader) Size(e *document.Entry) int64 {
	bytes := int64(
		r.quantity(e, map[string]float64{"kB": 1e3, "MB": 1e6, "GB": 1e9, "TB": 1e12}, `a size, such as "500 MB"`),
	)
	if e.Value.Kind == document.TextKind && measure.MatchString(e.Value.Text) && bytes > 0 && bytes < minSize {
		r.Wrong(e.Value.At, "", "%q must be at least 1 MB", e.Key)
	}
	return bytes
}

// age reads an age, such as "14 days".
func (r *Reader) age(e *document.Entry) time.Duration {
	return time.Duration(r.quantity(e, map[string]float64{
		"hour": float64(time.Hour), "hours": float64(time.Hour), "day": float64(Day), "days": float64(Day),
		"week": float64(7 * Day), "weeks": float64(7 * Day),
	}, `a number of hours, days or weeks, such as "14 days"`))
}
