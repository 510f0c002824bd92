package trend

import (
	"math"

	"gonum.org/v1/gonum/stat/combin"
	"gonum.org/v1/gonum/stat/distuv"
)

const (
	minCompared   = 6    // values on each side
	minDifference = 1.1  // what differs less is not reported
	maxByError    = 0.01 // the probability of a difference by chance, of all that are looked at together
)

// Differ reports whether two sets of positive values differ by more than chance, and by at least a tenth, and the ratio
// of the second to the first. It is the rank-sum test of Detector.Add, two-sided, with the correction of Bonferroni for
// the number of sets that are looked at; the ratio is that of Hodges and Lehmann.
func Differ(a, b []float64, lookedAt int) (ratio float64, significant bool) {
	a, b = logarithms(a), logarithms(b)
	if len(a) < minCompared || len(b) < minCompared {
		return 1, false
	}
	moved := hodgesLehmann(a, b)
	m, n := float64(len(b)), float64(len(a))
	inflation := (1 + minCorrelation) / (1 - minCorrelation)
	z := math.Abs(rankSum(a, b)-m*n/2) / math.Sqrt(inflation*m*n*(m+n+1)/12)
	chance := 2 * distuv.UnitNormal.Survival(z) * float64(max(lookedAt, 1))
	return math.Exp(moved), math.Abs(moved) >= math.Log(minDifference) && chance < maxByError
}

// logarithms are those of the positive values; of many values, an even selection.
func logarithms(values []float64) (logs []float64) {
	const enough = 500
	step := max(len(values)/enough, 1)
	for i := 0; i < len(values); i += step {
		if values[i] > 0 {
			logs = append(logs, math.Log(values[i]))
		}
	}
	return logs
}

// RatesDiffer reports whether two rates differ by more than chance: by the exact test of Fisher (1922), with the
// correction of Bonferroni for the number of pairs that are looked at.
func RatesDiffer(timesA, ofA, timesB, ofB, lookedAt int) bool {
	if timesA*ofB < timesB*ofA { // the test is one-sided: the greater rate comes first
		timesA, ofA, timesB, ofB = timesB, ofB, timesA, ofA
	}
	return 2*atLeast(timesA, ofA, timesB, ofB)*float64(max(lookedAt, 1)) < maxByError
}

// atLeast is the probability that so many or more of all times fall on the first of two sets by chance.
func atLeast(timesA, ofA, timesB, ofB int) (chance float64) {
	times, all := timesA+timesB, ofA+ofB
	for k := timesA; k <= min(times, ofA); k++ {
		if times-k <= ofB {
			chance += math.Exp(combin.LogGeneralizedBinomial(float64(ofA), float64(k)) +
				combin.LogGeneralizedBinomial(float64(ofB), float64(times-k)) -
				combin.LogGeneralizedBinomial(float64(all), float64(times)))
		}
	}
	return chance
}
