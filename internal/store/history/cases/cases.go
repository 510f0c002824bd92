// Package cases is the form in which the results of a run's tests are stored, and what they add up to.
package cases

import (
	"fmt"
	"slices"
)

// Statuses of cases.
const (
	Passed  = 0
	Failed  = 1
	Skipped = 2
)

// Each calls a function with each result in the form in which Results writes them. It is several times as fast as
// decoding JSON; what is in another form is an error.
func Each(cases []byte, do func(test, status, took int64)) error {
	var numbers [3]int64
	n, depth := 0, 0
	for i, c := range cases {
		switch {
		case c >= '0' && c <= '9' && depth == 2:
			numbers[n] = 10*numbers[n] + int64(c-'0')
		case c == ',' && depth == 2 && n < 2:
			n++
		case c == ',' && depth == 1:
		case c == '[' && (i == 0 || depth == 1):
			depth++
			numbers, n = [3]int64{}, 0
		case c == ']' && depth == 2 && n == 2:
			depth--
			do(numbers[0], numbers[1], numbers[2])
		case c == ']' && depth == 1:
			depth--
		default:
			return fmt.Errorf("the results of a run are damaged near %q", c)
		}
	}
	if depth != 0 {
		return fmt.Errorf("the results of a run are cut off")
	}
	return nil
}

// Daily are the results of a test on a day.
type Daily struct {
	Took                []int64 // microseconds, of those that passed
	Runs, Failed, Flaky int
	Last                int64 // the status of the last one; -1: none
}

// Add adds a result.
func (d *Daily) Add(status, took int64, same bool) {
	if d.Runs++; status == Failed {
		d.Failed++
	} else if status == Passed {
		d.Took = append(d.Took, took)
	}
	if same && d.Last >= 0 && d.Last != status && status != Skipped && d.Last != Skipped {
		d.Flaky++
	}
	d.Last = status
}

// Quartiles are the least value, the quartiles and the greatest value.
func Quartiles(values []int64) (q [5]int64) {
	if len(values) == 0 {
		return q
	}
	slices.Sort(values)
	for i := range q {
		q[i] = values[(len(values)-1)*i/4]
	}
	return q
}
