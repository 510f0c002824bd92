package trend

import (
	"math"
	"slices"
	"time"

	"gonum.org/v1/gonum/stat/distuv"
)

// Growth is a rate at which something grows steadily.
type Growth struct {
	PerHour    float64
	From, To   float64 // the levels at the beginning and at the end
	Since, End time.Time
}

// At is a value at a time.
type At struct {
	Time  time.Time
	Value float64
}

const (
	blocks       = 16               // a run is divided into so many parts of equal length
	minPart      = 90 * time.Second // the minimum length of a part
	minGrown     = 0.1              // of the first level: what less is grown is not reported
	maxByChance  = 1e-5             // the probability that values without a trend rise as steadily
	steadyShares = 3                // each third of the time must show growth: a warm-up ends
)

// MinGrowth is the minimum length of a run that can show growth.
const MinGrowth = blocks * minPart

// GrowthOf returns the growth of the values of one run, which are in order of time; each is valid until the next one.
// It is reported if the medians of sixteen parts of the run rise by the rank test of Mann (1945) and Kendall (1975),
// by a tenth of the first level or more, and in each third of the time; the rate is the slope of Theil (1950) and Sen
// (1968). A run of less than 24 minutes shows no growth.
func GrowthOf(values []At, end time.Time) (Growth, bool) {
	if len(values) == 0 {
		return Growth{}, false
	}
	since := values[0].Time
	part := end.Sub(since) / blocks
	if part < minPart {
		return Growth{}, false
	}
	levels := make([]float64, blocks)
	for i := range levels {
		from := since.Add(time.Duration(i) * part)
		levels[i] = levelBetween(values, from, from.Add(part))
	}
	if !rises(levels) {
		return Growth{}, false
	}
	third := blocks / steadyShares
	whole := slope(levels)
	for i := range steadyShares {
		if slope(levels[i*third:(i+1)*third]) < whole/3 {
			return Growth{}, false
		}
	}
	grown := whole * (blocks - 1)
	if first := levels[0]; grown < first*minGrown {
		return Growth{}, false
	}
	return Growth{
		PerHour: whole / part.Hours(), From: levels[0], To: levels[blocks-1], Since: since, End: end,
	}, true
}

// levelBetween is the median of the values that are valid within a time, each weighted by its length.
func levelBetween(values []At, from, to time.Time) float64 {
	type weighted struct {
		value float64
		held  time.Duration
	}
	var parts []weighted
	first, _ := slices.BinarySearchFunc(values, from, func(v At, t time.Time) int { return v.Time.Compare(t) })
	for i := max(first-1, 0); i < len(values) && values[i].Time.Before(to); i++ {
		end := to
		if i+1 < len(values) && values[i+1].Time.Before(to) {
			end = values[i+1].Time
		}
		begin := values[i].Time
		if begin.Before(from) {
			begin = from
		}
		if held := end.Sub(begin); held > 0 {
			parts = append(parts, weighted{values[i].Value, held})
		}
	}
	slices.SortFunc(parts, func(a, b weighted) int {
		if a.value < b.value {
			return -1
		}
		return 1
	})
	var held time.Duration
	for _, p := range parts {
		if held += p.held; held >= to.Sub(from)/2 {
			return p.value
		}
	}
	if len(parts) == 0 {
		return 0
	}
	return parts[len(parts)-1].value
}

// rises reports whether values rise significantly by the test of Mann and Kendall.
func rises(values []float64) bool {
	n, s := float64(len(values)), 0.0
	for i, a := range values {
		for _, b := range values[i+1:] {
			switch {
			case b > a:
				s++
			case b < a:
				s--
			}
		}
	}
	z := (s - 1) / math.Sqrt(n*(n-1)*(2*n+5)/18)
	return distuv.UnitNormal.Survival(z) < maxByChance
}

// slope is the median of the slopes of all pairs, per step.
func slope(values []float64) float64 {
	var all []float64
	for i, a := range values {
		for j := i + 1; j < len(values); j++ {
			all = append(all, (values[j]-a)/float64(j-i))
		}
	}
	return median(all)
}
