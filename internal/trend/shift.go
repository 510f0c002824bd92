// Package trend finds what changes over runs and days: level shifts of durations, growth of memory, tests that fail
// without a change, and what their failures coincide with. It is pure statistics over plain values: it knows nothing of
// projects, does not block, and its functions may be called from any goroutine.
//
// A project has millions of durations a year, so the usual levels of significance would report something every day.
// Each function states when it reports; the tests measure how often that is wrong in series of noise, and how soon it
// is right. Start reading at Shifts.
package trend

import (
	"math"
	"slices"

	"gonum.org/v1/gonum/stat"
)

// Shift is a lasting change of the level of a series.
type Shift struct {
	At     int     // the index of the first value after the shift
	Before float64 // the median before, since the shift before that
	After  float64 // the median after
	Ratio  float64 // After compared with Before, as Hodges and Lehmann estimate it; 1.4: 40 % more
}

// MinRatio is the smallest shift that is reported, up or down.
const MinRatio = 1.3

// Sensitivity is how sure a shift has to be.
type Sensitivity struct {
	errors float64 // the number of standard errors by which it has to differ from none
	least  int     // the number of values after it that are needed
}

var (
	// OfRuns is for a project's units: tens of series with up to a million values a year together.
	OfRuns = Sensitivity{5.2, 5}
	// OfTests is for single tests: thousands of series with up to a hundred million values a year together.
	OfTests = Sensitivity{6.4, 9}
)

const (
	minBefore = 25  // values that a level is known from
	maxBefore = 200 // the newest ones that a new level is compared with
	minRank   = 2.5 // standard errors by which the ranks have to differ; 2.5 is p < 0.013
	// The correlation of neighboring values is estimated, but assumed to be at least minCorrelation: that few values
	// show less than there is.
	minCorrelation, maxCorrelation = 0.3, 0.7
	minScale                       = 0.03 // of the logarithms: no duration repeats more exactly
	afterLoad                      = 3    // values after load that are not trusted: load is not always noticed
)

// after are the numbers of newest values that are compared with those before.
var after = []int{5, 7, 9, 11, 13, 15, 18, 22, 27, 33, 40}

// Detector finds the shifts of one series as its values come. The zero value is not usable; NewDetector makes one. It
// is for one goroutine.
type Detector struct {
	sensitivity Sensitivity
	level       []float64 // the logarithms of the newest values since the last shift
	numbers     []int     // theirs in the series
	added       int       // how many values the series has
	suspicious  int       // so many of the next values may have been measured under load
	usual       float64   // the median of level, computed now and then
	due         int       // the number of values from which it is computed again
}

// NewDetector returns a detector for a series without values.
func NewDetector(s Sensitivity) *Detector { return &Detector{sensitivity: s, suspicious: -1} }

// Value is one value of a series.
type Value struct {
	Value  float64
	Loaded bool // it was measured while other programs loaded the machine, and tells nothing
}

// Add adds a value. It returns the shift that the value makes certain, if there is one: each shift is returned once.
// Values under load and the next three are skipped, and so are those that are not positive; Shift.At counts them.
//
// The newest values are compared with those before by the rank-sum test of Wilcoxon (1945) and Mann and Whitney (1947),
// with the variance corrected for correlation of neighboring values (an autoregressive process of order one). A shift
// is reported if the ranks differ significantly, and the shift as estimated by Hodges and Lehmann (1963) is at least
// MinRatio and Sensitivity standard errors. Logarithms are compared: a duration varies in proportion to itself.
func (d *Detector) Add(v Value) (Shift, bool) {
	if !d.Seed(v) {
		return Shift{}, false
	}
	if !d.suspect() {
		return Shift{}, false
	}
	for _, m := range after {
		n := len(d.level) - m
		if n < minBefore {
			break
		}
		if m < d.sensitivity.least {
			continue
		}
		before, since := d.level[max(n-maxBefore, 0):n], d.level[n:]
		if !d.certain(before, since) {
			continue
		}
		at := split(d.level)
		shift := Shift{
			At: d.numbers[at], Before: math.Exp(median(d.level[:at])), After: math.Exp(median(d.level[at:])),
			Ratio: math.Exp(hodgesLehmann(d.level[:at], d.level[at:])),
		}
		d.level, d.numbers, d.due = slices.Clone(d.level[at:]), slices.Clone(d.numbers[at:]), 0
		return shift, true
	}
	return Shift{}, false
}

// Seed adds a value without looking for a shift: it was looked at before. It returns false for a value that is skipped.
func (d *Detector) Seed(v Value) bool {
	number := d.added
	d.added++
	if d.suspicious = max(d.suspicious-1, -1); v.Loaded {
		d.suspicious = afterLoad
	}
	if d.suspicious >= 0 || v.Value <= 0 || math.IsNaN(v.Value) || math.IsInf(v.Value, 0) {
		return false
	}
	d.level, d.numbers = append(d.level, math.Log(v.Value)), append(d.numbers, number)
	if over := len(d.level) - maxBefore - after[len(after)-1]; over > 0 {
		d.level, d.numbers = slices.Delete(d.level, 0, over), slices.Delete(d.numbers, 0, over)
	}
	return true
}

// suspect reports whether the newest values may be on another level: a quick look that spares most values the full one.
func (d *Detector) suspect() bool {
	n := len(d.level)
	if d.added >= d.due {
		d.usual, d.due = median(d.level[max(n-maxBefore, 0):]), d.added+32
	}
	sum, next := 0.0, 0
	for i, m := range []int{after[0], after[5], after[len(after)-1]} {
		for ; next < min(m, n); next++ {
			sum += d.level[n-1-next]
		}
		if next > 0 && math.Abs(sum/float64(next)-d.usual) > math.Log(MinRatio)*0.85 {
			return true
		}
		if i > 0 && next < m {
			break
		}
	}
	return false
}

// certain reports whether values differ from those before by a shift that is to be reported.
func (d *Detector) certain(before, since []float64) bool {
	m, n := float64(len(since)), float64(len(before))
	moved := hodgesLehmann(before, since)
	if math.Abs(moved) < math.Log(MinRatio) {
		return false
	}
	residuals := append(centered(before), centered(since)...)
	// Few values may show less deviation than there is, and more correlation or less.
	scale := max(deviation(residuals), minScale) * (1 + 400/((m+n)*(m+n)))
	r := min(max(correlation(residuals)-1/math.Sqrt(m+n), minCorrelation), maxCorrelation)
	inflation := (1 + r) / (1 - r)
	// There are more ways for few values to differ by chance: their windows overlap less.
	errors := d.sensitivity.errors * (1 + 3/(m*m))
	if math.Abs(moved) < errors*scale*math.Sqrt(inflation*(1/m+1/n)) {
		return false
	}
	u := rankSum(before, since)
	return math.Abs(u-m*n/2) >= minRank*math.Sqrt(inflation*m*n*(m+n+1)/12)
}

// rankSum is the statistic U of Mann and Whitney: the number of pairs in which the later value is greater; equal ones
// count half.
func rankSum(before, since []float64) (u float64) {
	sorted := slices.Sorted(slices.Values(before))
	for _, v := range since {
		below, found := slices.BinarySearch(sorted, v)
		u += float64(below)
		for ; found && below < len(sorted) && sorted[below] == v; below++ {
			u += 0.5
		}
	}
	return u
}

// hodgesLehmann is the median of the differences of all pairs. It is found by bisection: how many differences are below
// a value is counted without computing them.
func hodgesLehmann(before, since []float64) float64 {
	a, b := slices.Sorted(slices.Values(before)), slices.Sorted(slices.Values(since))
	low, high := b[0]-a[len(a)-1], b[len(b)-1]-a[0]
	const exact = 1e-4 // of a logarithm: a hundredth of a percent
	for high-low > exact {
		middle := (low + high) / 2
		if below(a, b, middle)*2 < len(a)*len(b) {
			low = middle
		} else {
			high = middle
		}
	}
	return (low + high) / 2
}

// below is how many differences of pairs of sorted values, the second minus the first, are at most some value.
func below(a, b []float64, most float64) (n int) {
	at := 0 // the values of a before it are too small: their difference is greater
	for _, v := range b {
		for at < len(a) && v-a[at] > most {
			at++
		}
		n += len(a) - at
	}
	return n
}

// split is the index at which the newest values of a series divide best into two levels: that with the least sum of
// the squared distances from the medians.
func split(values []float64) int {
	least := max(len(values)-after[len(after)-1]-maxBefore/4, minBefore/2)
	best, at := math.Inf(1), least
	for i := least; i <= len(values)-after[0]/2; i++ {
		if cost := spread(values[:i]) + spread(values[i:]); cost < best {
			best, at = cost, i
		}
	}
	return at
}

// spread is the sum of the squared distances from the median. Outliers count as three standard deviations.
func spread(values []float64) (sum float64) {
	residuals := centered(values)
	limit := 3 * max(deviation(residuals), minScale)
	for _, r := range residuals {
		sum += min(r*r, limit*limit)
	}
	return sum
}

// median returns the middle value; 0 if there is none.
func median(values []float64) float64 {
	if len(values) == 0 {
		return 0
	}
	return stat.Quantile(0.5, stat.LinInterp, slices.Sorted(slices.Values(values)), nil)
}

func centered(values []float64) []float64 {
	m, out := median(values), make([]float64, len(values))
	for i, v := range values {
		out[i] = v - m
	}
	return out
}

// deviation estimates the standard deviation of centered values by the mean of their distances, each limited to three
// standard deviations as the median of the distances estimates it: outliers count little.
func deviation(values []float64) float64 {
	distances := make([]float64, len(values))
	for i, v := range values {
		distances[i] = math.Abs(v)
	}
	const ofMedian, ofMean = 1.4826, 1.2533 // of normally distributed values
	limit, sum := 3*ofMedian*median(distances), 0.0
	for _, d := range distances {
		sum += min(d, limit)
	}
	return ofMean * sum / float64(len(values))
}

// correlation is that of neighboring values.
func correlation(values []float64) float64 {
	if len(values) < 3 {
		return 0
	}
	r := stat.Correlation(values[:len(values)-1], values[1:], nil)
	if math.IsNaN(r) {
		return 0
	}
	return r
}
