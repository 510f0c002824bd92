package cases

import "time"

// Day is the number of the calendar day of a time, in its time zone, since 1970-01-01.
func Day(t time.Time) int64 {
	y, m, d := t.Date()
	return time.Date(y, m, d, 0, 0, 0, 0, time.UTC).Unix() / int64((24 * time.Hour).Seconds())
}

// Start is the beginning of a day in the local time zone.
func Start(day int64) time.Time {
	y, m, d := time.Unix(day*int64((24*time.Hour).Seconds()), 0).UTC().Date()
	return time.Date(y, m, d, 0, 0, 0, 0, time.Local)
}
