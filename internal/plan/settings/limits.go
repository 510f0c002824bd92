package settings

import (
	"strconv"
	"time"

	"omnivigil/internal/plan"
	"omnivigil/internal/plan/document"
	"omnivigil/internal/text/lazyregexp"
)

// The default limits.
var (
	defaultLogs    = plan.Limits{Size: 2e9, Age: 14 * day}
	defaultHistory = plan.Limits{Size: 500e6, Age: 180 * day}
	// DefaultStore are the limits of the store of contents, without a personal setting.
	DefaultStore = plan.Limits{Size: 4e9, Age: 30 * day}
)

// defaultKeepOutputs is how large the outputs of a run may be to be kept.
const defaultKeepOutputs = 500e6

const day = 24 * time.Hour

// minSize is the minimum size of a useful log or history.
const minSize = 1e6

// readLimits reads limits.
func (r *reader) readLimits(e *document.Entry, limits *plan.Limits) {
	if !r.want(e.Value, document.TablesKind, e.Key) {
		return
	}
	for _, limit := range e.Value.Table.Entries {
		switch limit.Key {
		case "size":
			limits.Size = r.size(limit)
		case "age":
			limits.Age = r.age(limit)
		default:
			r.unknown(limit, e.Key, []string{"size", "age"})
		}
	}
}

var measure = lazyregexp.New(`^([0-9]+(?:\.[0-9]+)?) ?([A-Za-z]+)$`)

// quantity reads a number with a unit.
func (r *reader) quantity(e *document.Entry, units map[string]float64, wanted string) float64 {
	if e.Value.Kind != document.TextKind {
		r.wrong(e.Value.At, "", "%q must be %s, not %s", e.Key, wanted, e.Value.Kind)
		return 0
	}
	if m := measure.FindStringSubmatch(e.Value.Text); m != nil {
		if factor, ok := units[m[2]]; ok {
			if n, err := strconv.ParseFloat(m[1], 64); err == nil && n*factor < 1e18 {
				return n * factor
			}
		}
	}
	r.wrong(e.Value.At, "", "%q must be %s, not %q", e.Key, wanted, e.Value.Text)
	return 0
}

func (r *reader) size(e *document.Entry) int64 {
	bytes := int64(
		r.quantity(e, map[string]float64{"kB": 1e3, "MB": 1e6, "GB": 1e9, "TB": 1e12}, `a size, such as "500 MB"`),
	)
	if e.Value.Kind == document.TextKind && measure.MatchString(e.Value.Text) && bytes > 0 && bytes < minSize {
		r.wrong(e.Value.At, "", "%q must be at least 1 MB", e.Key)
	}
	return bytes
}

func (r *reader) age(e *document.Entry) time.Duration {
	return time.Duration(r.quantity(e, map[string]float64{
		"hour": float64(time.Hour), "hours": float64(time.Hour), "day": float64(day), "days": float64(day),
		"week": float64(7 * day), "weeks": float64(7 * day),
	}, `a number of hours, days or weeks, such as "14 days"`))
}
