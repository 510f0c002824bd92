// Package format writes durations, times, sizes, lists and counts for people, the same way everywhere. It imports
// only the standard library.
package format

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"
)

// Duration formats a duration with as many digits as are useful: "0.41 s", "12.3 s", "4 min 05 s", "2 h 07 min".
func Duration(d time.Duration) string {
	switch {
	case d < 10*time.Second:
		return fmt.Sprintf("%.2f s", d.Seconds())
	case d < time.Minute:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < time.Hour:
		return fmt.Sprintf("%d min %02d s", int(d.Minutes()), int(d.Seconds())%60)
	}
	return fmt.Sprintf("%d h %02d min", int(d.Hours()), int(d.Minutes())%60)
}

// Clock formats the time of day of a save or a run.
func Clock(t time.Time) string { return t.Format("15:04:05") }

// Moment formats a time that may be on another day than now.
func Moment(t, now time.Time) string {
	if t.YearDay() == now.YearDay() && t.Year() == now.Year() {
		return Clock(t)
	}
	return t.Format("2 Jan 15:04")
}

// RunOf names a run by its time and by who made it; empty: this machine.
func RunOf(by, at string) string {
	if by == "" {
		return at
	}
	return by + "'s run of " + at
}

// List names the first two of several things and counts the rest.
func List(names []string) string { return ListOf(names, len(names)) }

// ListOf is List if names has only the first of all.
func ListOf(names []string, all int) string {
	switch {
	case all == 0:
		return "nothing"
	case all == 1:
		return names[0]
	case all == 2 && len(names) == 2:
		return names[0] + " and " + names[1]
	case len(names) == 1:
		return fmt.Sprintf("%s and %d more", names[0], all-1)
	}
	return fmt.Sprintf("%s, %s and %d more", names[0], names[1], all-2)
}

// Count returns a number with a noun: "1 file", "3 directories".
func Count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	if stem, ok := strings.CutSuffix(what, "ry"); ok {
		return strconv.Itoa(n) + " " + stem + "ries"
	}
	if strings.HasSuffix(what, "ch") {
		what += "e"
	}
	return strconv.Itoa(n) + " " + what + "s"
}

// Bytes formats a number of bytes in the largest decimal unit that fits, as in the settings: 1 kB is 1000 bytes. "512
// B", "3.4 kB", "12 MB".
func Bytes(n float64) string {
	units := []string{"kB", "MB", "GB", "TB"}
	if math.Round(n) < 1000 {
		return strconv.FormatFloat(math.Round(n), 'f', -1, 64) + " B"
	}
	unit := 0
	for n /= 1000; math.Round(n) >= 1000 && unit < len(units)-1; n /= 1000 {
		unit++
	}
	return scaled(n) + " " + units[unit]
}

// scaled has one decimal place below ten.
func scaled(n float64) string {
	if n < 9.95 {
		return strconv.FormatFloat(n, 'f', 1, 64)
	}
	return strconv.FormatFloat(math.Round(n), 'f', -1, 64)
}

// Percent formats a share: "12 %", below ten with one decimal place.
func Percent(share float64) string { return scaled(100*share) + " %" }
