package main

import (
	"cmp"
	"fmt"
	"io"
	"maps"
	"path"
	"slices"
	"strings"
	"text/tabwriter"

	"golang.org/x/perf/benchfmt"
	"golang.org/x/perf/benchmath"
)

const (
	// alpha is the probability with which equal versions may differ as much in one figure. There are many figures.
	alpha = 0.001
	// slack is the ratio of medians below which a difference does not matter, however certain it is.
	slack = 1.05
	// fewest is how many measurements of each version can be told apart with this probability.
	fewest = 8
)

// figure is what was measured: a benchmark, with its package, and a unit.
type figure struct{ benchmark, unit string }

// results are the measurements of a version, in the order in which they were taken.
type results map[figure][]float64

// read reads a file of results. A line that is no result is skipped, one that is damaged is an error.
func read(file string) (results, error) {
	all := results{}
	files := benchfmt.Files{Paths: []string{file}}
	for files.Scan() {
		switch r := files.Result().(type) {
		case *benchfmt.Result:
			for _, v := range r.Values {
				of := figure{path.Base(r.GetConfig("pkg")) + "." + r.Name.String(), v.Unit}
				all[of] = append(all[of], v.Value)
			}
		case *benchfmt.SyntaxError:
			return nil, r
		}
	}
	return all, files.Err()
}

// difference is a figure of two versions. Ratio is the median of the ratios of neighboring measurements, Low and High
// are their quartiles.
type difference struct {
	figure
	old, now         float64 // medians
	ratio, low, high float64
	p                float64 // of this difference between equal versions, by Mann and Whitney's test of ranks
	word             string  // worse, better, or nothing
}

// compare compares what both versions have measured.
func compare(old, now results) []difference {
	var all []difference
	for of := range maps.Keys(now) {
		n := min(len(old[of]), len(now[of]))
		if n == 0 || isReference(of.unit) {
			continue
		}
		all = append(all, differ(of, old[of][:n], now[of][:n]))
	}
	slices.SortFunc(all, func(a, b difference) int {
		return cmp.Or(strings.Compare(a.benchmark, b.benchmark), strings.Compare(a.unit, b.unit))
	})
	return all
}

func differ(of figure, old, now []float64) difference {
	ratios := make([]float64, 0, len(old))
	for i := range old {
		if old[i] != 0 {
			ratios = append(ratios, now[i]/old[i])
		}
	}
	slices.Sort(ratios)
	d := difference{figure: of, old: median(old), now: median(now), ratio: 1, low: 1, high: 1}
	if len(ratios) > 0 {
		d.low, d.ratio, d.high = ratios[len(ratios)/4], median(ratios), ratios[len(ratios)*3/4]
	}
	thresholds := &benchmath.Thresholds{CompareAlpha: alpha}
	one, other := benchmath.NewSample(slices.Clone(old), thresholds), benchmath.NewSample(slices.Clone(now), thresholds)
	d.p = benchmath.AssumeNothing.Compare(one, other).P
	worse, better := d.now > d.old*slack, d.old > d.now*slack
	if strings.HasSuffix(of.unit, "/s") { // the more, the better
		worse, better = d.old > d.now*slack, d.now > d.old*slack
	}
	switch {
	case len(old) < fewest || d.p >= alpha:
	case worse:
		d.word = "worse"
	case better:
		d.word = "better"
	}
	return d
}

func median(values []float64) float64 {
	sorted := slices.Sorted(slices.Values(values))
	n := len(sorted)
	if n%2 == 1 {
		return sorted[n/2]
	}
	return (sorted[n/2-1] + sorted[n/2]) / 2
}

// isReference reports whether a unit is of something that a version was compared with, and not of the version itself.
func isReference(unit string) bool {
	return strings.HasPrefix(unit, "bare-") || strings.HasPrefix(unit, "find-") || unit == "%stolen" || unit == "%busy"
}

// report prints the differences and returns how many are for the worse.
func report(w io.Writer, all []difference) (worse int) {
	table := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
	fmt.Fprintln(table, "benchmark\tunit\tbefore\tnow\tratio\tquartiles\tp\t")
	for _, d := range all {
		fmt.Fprintf(table, "%s\t%s\t%.4g\t%.4g\t%.3f\t%.3f to %.3f\t%.4f\t%s\n",
			d.benchmark, d.unit, d.old, d.now, d.ratio, d.low, d.high, d.p, d.word)
		if d.word == "worse" {
			worse++
		}
	}
	table.Flush()
	return worse
}
