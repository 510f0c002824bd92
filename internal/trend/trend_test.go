package trend

import (
	"math"
	"math/rand/v2"
	"os"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// noise is a series of durations: lognormal, with a standard deviation of 0.15 of the logarithms and a correlation of
// 0.3 of neighbors, and phases in which other programs load the machine. One in ten runs of a phase is not noticed.
type noise struct {
	*rand.Rand
	level  float64
	error  float64
	phase  int     // runs that are left of a phase of load
	factor float64 // of the phase
}

func newNoise(seed uint64, level float64) *noise {
	return &noise{Rand: rand.New(rand.NewPCG(seed, 1)), level: level}
}

func (n *noise) next() Value {
	const deviation, correlated = 0.15, 0.3
	n.error = correlated*n.error + math.Sqrt(1-correlated*correlated)*deviation*n.NormFloat64()
	v := Value{Value: n.level * math.Exp(n.error)}
	if n.phase == 0 && n.IntN(300) == 0 {
		n.phase, n.factor = 10+n.IntN(50), 1.2+0.6*n.Float64()
	}
	if n.phase > 0 {
		n.phase--
		v.Value *= n.factor
		v.Loaded = n.IntN(10) > 0
	}
	return v
}

// size is how many values a test plays: OMNIVIGIL_VALUES, or else fewer than a year has.
func size(t *testing.T, usual int) int {
	if text := os.Getenv("OMNIVIGIL_VALUES"); text != "" {
		n, err := strconv.Atoi(text)
		require.NoError(t, err)
		return n
	}
	return usual
}

// TestFalseAlarms plays series without a shift. With OMNIVIGIL_VALUES=1460000, those of a year: twenty units with two
// hundred runs a day.
func TestFalseAlarms(t *testing.T) {
	for _, c := range []struct {
		name   string
		s      Sensitivity
		length int
		values int
	}{
		{"long series", OfRuns, 20_000, size(t, 60_000)},
		{"short series", OfRuns, 60, size(t, 60_000)},
		{"tests", OfTests, 2_000, size(t, 60_000)},
	} {
		alarms, skipped := 0, 0
		for seed := range uint64(c.values / c.length) {
			n, d := newNoise(seed, 3), NewDetector(c.s)
			for range c.length {
				v := n.next()
				if v.Loaded {
					skipped++
				}
				if _, is := d.Add(v); is {
					alarms++
				}
			}
		}
		t.Logf("%s: %d false alarms in %d values, %d of them under load", c.name, alarms, c.values, skipped)
		assert.LessOrEqual(t, alarms, c.values/1_460_000, c.name)
		assert.Positive(t, skipped)
	}
}

// TestShiftsAreFound plays series whose level shifts, and measures how soon that is found.
func TestShiftsAreFound(t *testing.T) {
	for _, c := range []struct {
		ratio        float64
		s            Sensitivity
		before       int
		soon, within int     // soon: most are found; within: almost all
		most         float64 // the share that is found soon
	}{
		{1.4, OfRuns, 120, 15, 25, 0.65},
		{1 / 1.4, OfRuns, 120, 15, 25, 0.65},
		{2, OfRuns, 60, 9, 20, 0.9},
		{4, OfRuns, 60, 7, 15, 0.85},
		{1.4, OfTests, 200, 18, 30, 0.5},
	} {
		soon, ever, exact := 0, 0, 0
		const series = 150
		for seed := range uint64(series) {
			n, d := newNoise(seed, 2), NewDetector(c.s)
			for range c.before {
				d.Add(n.next())
			}
			n.level *= c.ratio
			for seen, early := 0, 0; seen < c.within; { // seen: values that count
				v := n.next()
				if !v.Loaded && d.suspicious <= 0 {
					seen++
				}
				shift, is := d.Add(v)
				if early++; !is {
					continue
				}
				ever++
				if seen <= c.soon {
					soon++
				}
				if shift.At >= c.before-3 && shift.At <= c.before+early-min(seen, 4) &&
					math.Abs(math.Log(shift.Ratio/c.ratio)) < 0.2 && math.Abs(math.Log(shift.Before/2)) < 0.15 {
					exact++
				}
				break
			}
		}
		assert.GreaterOrEqual(t, float64(exact)/series, 0.8, "the first run after it, and the levels")
		t.Logf("a shift of %.2f: %d of %d within %d runs, %d within %d", c.ratio, soon, series, c.soon, ever, c.within)
		assert.GreaterOrEqual(t, float64(soon)/series, c.most)
		assert.GreaterOrEqual(t, float64(ever)/series, 0.93)
	}
}

// TestSmallShifts checks that what is below thirty percent is never reported, however certain.
func TestSmallShifts(t *testing.T) {
	d, r := NewDetector(OfRuns), rand.New(rand.NewPCG(1, 2))
	for i := range 2000 {
		level := 1.0
		if i >= 1000 {
			level = 1.25
		}
		_, is := d.Add(Value{Value: level * math.Exp(0.02*r.NormFloat64())})
		require.False(t, is, i)
	}
}

// TestOnce checks that a shift is reported once, and the way back as another one.
func TestOnce(t *testing.T) {
	n, d := newNoise(7, 1), NewDetector(OfRuns)
	var shifts []Shift
	for i := range 300 {
		n.level = 1
		if i >= 100 && i < 200 {
			n.level = 1.8
		}
		if s, is := d.Add(n.next()); is {
			shifts = append(shifts, s)
		}
	}
	require.Len(t, shifts, 2)
	assert.InDelta(t, 100, shifts[0].At, 5)
	assert.InDelta(t, 200, shifts[1].At, 5)
	assert.Greater(t, shifts[0].Ratio, 1.5)
	assert.Less(t, shifts[1].Ratio, 0.7)
}

// TestGrowth checks what counts as growth, and what does not.
func TestGrowth(t *testing.T) {
	const mb = 1 << 20
	for _, c := range []struct {
		name  string
		level func(hours float64, r *rand.Rand) float64
		rate  float64 // per hour; 0: none
	}{
		{"a leak", func(h float64, _ *rand.Rand) float64 { return 80 + 12*h }, 12},
		{"a leak below the waves of a collector",
			func(h float64, r *rand.Rand) float64 { return 80 + 12*h + 15*r.Float64() }, 12},
		{"the waves alone", func(_ float64, r *rand.Rand) float64 { return 80 + 40*r.Float64() }, 0},
		{"a warm-up", func(h float64, r *rand.Rand) float64 { return 80 + 40*(1-math.Exp(-6*h)) + 2*r.Float64() }, 0},
		{"a step", func(h float64, r *rand.Rand) float64 { return 80 + 40*math.Floor(h) + r.Float64() }, 0},
		{"less than a tenth", func(h float64, _ *rand.Rand) float64 { return 80 + 2*h }, 0},
		{"steady", func(float64, *rand.Rand) float64 { return 80 }, 0},
	} {
		r, began := rand.New(rand.NewPCG(3, 4)), time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)
		var values []At
		for s := 0; s < 2*3600; s += 10 {
			values = append(values, At{began.Add(time.Duration(s) * time.Second), mb * c.level(float64(s)/3600, r)})
		}
		g, is := GrowthOf(values, began.Add(2*time.Hour))
		assert.Equal(t, c.rate > 0, is, c.name)
		assert.InDelta(t, c.rate*mb, g.PerHour, mb, c.name)
	}
	_, is := GrowthOf(nil, time.Time{})
	assert.False(t, is)
}

// TestGrowthByChance plays random walks without growth: the memory of programs that allocate and free.
func TestGrowthByChance(t *testing.T) {
	alarms := 0
	const runs = 3000
	for seed := range uint64(runs) {
		r, at := rand.New(rand.NewPCG(seed, 5)), time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)
		var values []At
		level := 0.0
		for range 720 {
			level = 0.98*level + r.NormFloat64()
			values = append(values, At{at, 100 + 2*level})
			at = at.Add(10 * time.Second)
		}
		if _, is := GrowthOf(values, at); is {
			alarms++
		}
	}
	assert.Zero(t, alarms, "of %d runs", runs)
}

func TestRate(t *testing.T) {
	r := RateOf(6, 214) // compared with published tables of the interval
	assert.InDelta(t, 0.0280, r.Share(), 0.0001)
	assert.InDelta(t, 0.0129, r.Low, 0.0001)
	assert.InDelta(t, 0.0598, r.High, 0.0001)
	none := RateOf(0, 20)
	assert.Zero(t, none.Low)
	assert.InDelta(t, 0.1611, none.High, 0.0001)
	assert.Equal(t, Rate{High: 1}, RateOf(0, 0))
}

func TestCoincidence(t *testing.T) {
	for _, c := range []struct {
		name string
		Coincidence
		lookedAt int
		want     bool
	}{
		{"always under load, which is rare", Coincidence{6, 0, 20, 188}, 10, true},
		{"too few failures", Coincidence{3, 0, 1, 210}, 1, false},
		{"as often without", Coincidence{3, 3, 100, 108}, 1, false},
		{"always, but so is everything", Coincidence{6, 0, 208, 0}, 1, false},
		{"mostly, when half of all runs are", Coincidence{5, 1, 100, 108}, 10, false},
		{"by chance, if so many things are looked at", Coincidence{4, 0, 50, 160}, 10_000, false},
	} {
		assert.Equal(t, c.want, c.Significant(c.lookedAt), c.name)
	}
}

// TestDiffer compares values and rates that differ, and some that do not.
func TestDiffer(t *testing.T) {
	found, alarms := 0, 0
	for seed := range uint64(300) {
		n := newNoise(seed, 2)
		sample := func(factor float64) (values []float64) {
			for len(values) < 25 {
				if v := n.next(); !v.Loaded {
					values = append(values, v.Value*factor)
				}
			}
			return values
		}
		a := sample(1)
		if _, is := Differ(a, sample(1), 20); is {
			alarms++
		}
		if ratio, is := Differ(a, sample(1.4), 20); is {
			found++
			assert.InDelta(t, 1.4, ratio, 0.35)
		}
	}
	assert.LessOrEqual(t, alarms, 1)
	assert.Greater(t, found, 240)
	_, is := Differ([]float64{1, 1, 1}, []float64{9, 9, 9}, 1)
	assert.False(t, is, "too few")
	assert.True(t, RatesDiffer(0, 40, 12, 40, 20))
	assert.True(t, RatesDiffer(12, 40, 0, 40, 20))
	assert.False(t, RatesDiffer(1, 40, 3, 40, 1))
	assert.False(t, RatesDiffer(0, 0, 3, 3, 1))
}

// BenchmarkDetector adds a value to one of two thousand series, as each test of a run does.
func BenchmarkDetector(b *testing.B) {
	all, n := make([]*Detector, 2000), newNoise(1, 3)
	for i := range all {
		all[i] = NewDetector(OfTests)
		for range 240 {
			all[i].Add(n.next())
		}
	}
	for i := 0; b.Loop(); i++ {
		all[i%len(all)].Add(n.next())
	}
}
