package api

import (
	"fmt"
	"maps"
	"math"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"omnivigil/internal/api/changes"
	"omnivigil/internal/api/past"
)

// Query is the parameters of a request's URL. Client and server use the same description for encoding and decoding,
// so that both agree on names, types and limits.
type Query interface {
	params() []param
}

// QueryError reports a parameter that cannot be used, for the sender.
type QueryError struct{ Text string }

func (e *QueryError) Error() string { return e.Text }

// Encode returns the parameters of a query, without those that have the zero value.
func Encode(q Query) url.Values {
	values := url.Values{}
	for _, p := range q.params() {
		if texts := p.get(); len(texts) > 0 && texts[0] != "" {
			values[p.name] = texts
		}
	}
	return values
}

// Decode sets a query from parameters. Missing parameters keep their values. The error is a *QueryError.
func Decode(values url.Values, into Query) error {
	var known []string
	for _, p := range into.params() {
		known = append(known, p.name)
		texts := values[p.name]
		if len(texts) == 0 || texts[0] == "" {
			continue
		}
		if problem := p.set(texts); problem != "" {
			return &QueryError{p.name + " " + problem}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(values)) {
		if !slices.Contains(known, name) {
			return &QueryError{fmt.Sprintf("there is no parameter %q; there are %s", name, strings.Join(known, ", "))}
		}
	}
	return nil
}

// param binds one parameter to a field. Set returns what is wrong with a text, for a message that begins with the
// parameter's name.
type param struct {
	name string
	get  func() []string
	set  func(texts []string) string
}

func textParam(name string, field *string) param {
	return param{
		name,
		func() []string { return []string{*field} },
		func(texts []string) string { *field = texts[0]; return "" },
	}
}

func textsParam(name string, field *[]string) param {
	return param{
		name,
		func() []string { return *field },
		func(texts []string) string { *field = texts; return "" },
	}
}

func flagParam(name string, field *bool) param {
	return param{
		name,
		func() []string {
			if *field {
				return []string{"true"}
			}
			return nil
		},
		func(texts []string) string {
			v, err := strconv.ParseBool(texts[0])
			if err != nil {
				return fmt.Sprintf("must be true or false, not %q", texts[0])
			}
			*field = v
			return ""
		},
	}
}

// countParam is a whole number from 0 to most.
func countParam[N int | int64](name string, field *N, most N) param {
	return param{
		name,
		func() []string {
			if *field == 0 {
				return nil
			}
			return []string{strconv.FormatInt(int64(*field), 10)}
		},
		func(texts []string) string {
			v, err := strconv.ParseInt(texts[0], 10, 64)
			if err != nil || v < 0 {
				return fmt.Sprintf("must be a whole number, not %q", texts[0])
			}
			if v > int64(most) {
				return fmt.Sprintf("must be at most %d", most)
			}
			*field = N(v)
			return ""
		},
	}
}

func timeParam(name string, field *time.Time) param {
	return param{
		name,
		func() []string {
			if field.IsZero() {
				return nil
			}
			return []string{field.Format(time.RFC3339Nano)}
		},
		func(texts []string) string {
			v, err := time.Parse(time.RFC3339Nano, texts[0])
			if err != nil {
				return fmt.Sprintf("must be a time such as 2030-05-04T12:04:31.5Z, not %q", texts[0])
			}
			*field = v
			return ""
		},
	}
}

// maxKind is the maximum length of a face's kind, in bytes.
const maxKind = 32

func (f *Face) params() []param {
	kind := textParam("face", &f.Kind)
	set := kind.set
	kind.set = func(texts []string) string {
		if len(texts[0]) > maxKind {
			return fmt.Sprintf("must have at most %d bytes", maxKind)
		}
		return set(texts)
	}
	return []param{kind, countParam("pid", &f.PID, math.MaxInt32), secondsParam("leave", &f.Leave)}
}

func (q *LineQuery) params() []param {
	move := param{
		"move",
		func() []string {
			if q.Move == 0 {
				return nil
			}
			return []string{strconv.Itoa(q.Move)}
		},
		func(texts []string) string {
			v, err := strconv.Atoi(texts[0])
			if err != nil {
				return fmt.Sprintf("must be a whole number, not %q", texts[0])
			}
			q.Move = v
			return ""
		},
	}
	return []param{
		textParam("filter", &q.Filter),
		textParam("unit", &q.Unit),
		countParam("run", &q.Run, math.MaxInt32),
		countParam("count", &q.Count, MaxLines),
		countParam("from", &q.From, math.MaxInt64),
		countParam("to", &q.To, math.MaxInt64),
		countParam("end", &q.End, math.MaxInt64),
		timeParam("until", &q.Until),
		timeParam("since", &q.Since),
		flagParam("last", &q.Last),
		flagParam("why", &q.Why),
		flagParam("fold", &q.Fold),
		flagParam("similar", &q.Similar),
		flagParam("new", &q.New),
		flagParam("values", &q.Values),
		flagParam("raw", &q.Raw),
		move,
	}
}

func (q *CountQuery) params() []param {
	return []param{
		textsParam("unit", &q.Units), timeParam("from", &q.From), secondsParam("column", &q.Column),
		countParam("columns", &q.Columns, MaxLines),
	}
}

func (q *SearchQuery) params() []param {
	return []param{
		textParam("pattern", &q.Pattern),
		textParam("filter", &q.Filter),
		countParam("from", &q.From, math.MaxInt64),
		countParam("most", &q.Most, MaxLines),
		flagParam("back", &q.Back),
		flagParam("count", &q.Count),
		flagParam("raw", &q.Raw),
	}
}

func (q *ResultQuery) params() []param {
	return []param{
		textsParam("unit", &q.Units),
		textParam("only", &q.Only),
		textParam("text", &q.Text),
		textParam("by", &q.By),
		countParam("from", &q.From, math.MaxInt32),
		countParam("count", &q.Count, math.MaxInt32),
		timeParam("at", &q.At),
	}
}

// HistoryQuery is a query of the history as the parameters of a request.
type HistoryQuery struct{ past.Query }

func (q *HistoryQuery) params() []param {
	what := string(q.What)
	kind := textParam("what", &what)
	set := kind.set
	kind.set = func(texts []string) string {
		if q.What = past.Kind(texts[0]); !slices.Contains(past.Kinds, q.What) {
			return fmt.Sprintf("must be units, runs, ripples, tests, trends, days or sessions, not %q", texts[0])
		}
		return set(texts)
	}
	return []param{
		kind,
		textsParam("unit", &q.Units),
		timeParam("since", &q.Since),
		timeParam("until", &q.Until),
		textParam("branch", &q.Branch),
		textParam("session", &q.Session),
		countParam("ripple", &q.Ripple, math.MaxInt32),
		textParam("suite", &q.Test.Suite),
		textParam("test", &q.Test.Name),
		countParam("count", &q.Count, past.MaxCount),
	}
}

// ChangesQuery is a query of changes as the parameters of a request.
type ChangesQuery struct{ changes.Query }

func (q *ChangesQuery) params() []param {
	return []param{countParam("ripple", &q.Ripple, math.MaxInt32), textParam("unit", &q.Unit)}
}

func (q *ScreenQuery) params() []param {
	return append([]param{
		textParam("unit", &q.Unit),
		flagParam("hand", &q.Hand),
		flagParam("take", &q.Take),
		countParam("cols", &q.Size.Cols, math.MaxInt32),
		countParam("rows", &q.Size.Rows, math.MaxInt32),
	}, q.Face.params()...)
}

func secondsParam(name string, field *Seconds) param {
	return param{
		name,
		func() []string {
			if *field <= 0 {
				return nil
			}
			seconds, _ := field.MarshalJSON() // a number never fails
			return []string{strings.TrimSpace(string(seconds))}
		},
		func(texts []string) string {
			if err := field.UnmarshalJSON([]byte(texts[0])); err != nil || *field < 0 {
				return fmt.Sprintf("must be a number of seconds, not %q", texts[0])
			}
			return ""
		},
	}
}

func (q *WaitQuery) params() []param {
	return []param{textsParam("unit", &q.Units), secondsParam("timeout", &q.Timeout)}
}

// TextQuery is the lines of the log from From up to and without End; End 0 is the end of the log. Raw is as in
// LineQuery.
type TextQuery struct {
	From, End int64
	Raw       bool
}

func (q *TextQuery) params() []param {
	return []param{
		countParam("from", &q.From, math.MaxInt64), countParam("end", &q.End, math.MaxInt64), flagParam("raw", &q.Raw),
	}
}

// CaseQuery is one case of a unit.
type CaseQuery struct {
	Unit string
	Name CaseName
}

func (q *CaseQuery) params() []param {
	return []param{textParam("unit", &q.Unit), textParam("suite", &q.Name.Suite), textParam("name", &q.Name.Name)}
}

// UnitsQuery is some units: names of units and groups; none: all.
type UnitsQuery struct{ Units []string }

func (q *UnitsQuery) params() []param { return []param{textsParam("unit", &q.Units)} }

// NumberQuery is the number of an event or sample, with its own parameter name.
type NumberQuery struct {
	Param  string
	Number int64
}

func (q *NumberQuery) params() []param { return []param{countParam(q.Param, &q.Number, math.MaxInt64)} }
