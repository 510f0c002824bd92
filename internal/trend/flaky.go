package trend

import (
	"math"

	"gonum.org/v1/gonum/stat/distuv"
)

// Rate is how often something happened, with its confidence interval.
type Rate struct {
	Times, Of int
	Low, High float64 // the 95 % confidence interval of the share
}

// RateOf returns the rate with the interval of Wilson (1927), which is right for few observations too.
func RateOf(times, of int) Rate {
	r := Rate{Times: times, Of: of, High: 1}
	if of <= 0 {
		return r
	}
	z := distuv.UnitNormal.Quantile(0.975)
	n, p := float64(of), float64(times)/float64(of)
	middle := (p + z*z/(2*n)) / (1 + z*z/n)
	half := z / (1 + z*z/n) * math.Sqrt(p*(1-p)/n+z*z/(4*n*n))
	r.Low, r.High = max(middle-half, 0), min(middle+half, 1)
	return r
}

// Share is the observed share.
func (r Rate) Share() float64 {
	if r.Of == 0 {
		return 0
	}
	return float64(r.Times) / float64(r.Of)
}

// Coincidence counts failures and successes by whether something else was the case at the same time.
type Coincidence struct {
	FailedWith, FailedWithout, PassedWith, PassedWithout int
}

const (
	minFailures = 4    // fewer coincide with anything
	maxChance   = 0.01 // the probability of a coincidence, of all that are looked at together
)

// Significant reports whether failures coincide with the other thing more often than by chance: by the exact test of
// Fisher (1922), one-sided, with the correction of Bonferroni for the number of things that are looked at.
func (c Coincidence) Significant(lookedAt int) bool {
	failed, with := c.FailedWith+c.FailedWithout, c.FailedWith+c.PassedWith
	all := failed + c.PassedWith + c.PassedWithout
	if failed < minFailures || c.FailedWith*2 <= failed || with == all {
		return false
	}
	chance := atLeast(c.FailedWith, with, c.FailedWithout, all-with)
	return chance*float64(max(lookedAt, 1)) < maxChance
}
