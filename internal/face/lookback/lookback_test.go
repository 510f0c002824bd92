package lookback

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/api/past"
	"omnivigil/internal/api/seconds"
)

var now = time.Date(2030, 5, 4, 12, 4, 31, 0, time.UTC)

// TestRows says each part of the history in words.
func TestRows(t *testing.T) {
	took := seconds.Seconds(4200 * time.Millisecond)
	at := past.Revision{Commit: "c0ffee1234567890", Branch: "main", Clean: new(false)}
	for want, h := range map[string]past.History{
		"Nothing like that is in the history, which begins 3 May 09:00.": {
			From: now.Add(-27 * time.Hour).Truncate(time.Hour)},
		"unit       runs  broken          25 %        median          75 %  last run\n" +
			"harbour     214       6        4.00 s        4.20 s        4.60 s  12:04:31\n" +
			"tides         1       0             -             -             -  4 May 2029": {Units: []past.Unit{
			{Unit: "harbour", Runs: 214, Broken: 6, Quarter: seconds.Seconds(4 * time.Second), Median: took,
				Three: seconds.Seconds(4600 * time.Millisecond), LastAt: now},
			{Unit: "tides", Runs: 1, LastAt: now.AddDate(-1, 0, 0)}}},
		"12:04:31      harbour run 7  failed (exit 1), 2 of 9 tests failed, under load: tides.go changed  " +
			"(main c0ffee123, with changes)\n" +
			"12:04:31      harbour run 6  done 4.20 s, 9 tests passed\nand more": {More: true, Runs: []past.Run{
			{Unit: "harbour", Number: 7, Outcome: "failed", Exit: "exit 1",
				Counts: past.Counts{Passed: 7, Failed: 2}, Loaded: true, Began: now,
				Because: "tides.go changed", Revision: at},
			{Unit: "harbour", Number: 6, Outcome: "done", Took: took, Counts: past.Counts{Passed: 9}, Began: now}}},
		"12:04:31      current     4.20 s  fares.csv": {Ripples: []past.Ripple{
			{Title: "fares.csv", Outcome: "current", Took: took, Since: now}}},
		"harbour  low tide: failed in 6 of 214 runs (1.3 % to 6.0 %), last 12:04:31, 4 times without a change, " +
			"mostly under load, median 4.20 s": {
			Tests: []past.Test{{Unit: "harbour", Name: "low tide", Runs: 214, Failed: 6, Flaky: 4, Low: 0.0129, High: 0.0598,
				LastFailed: now, Coincides: []string{past.Load}, Median: took}}},
		"trend 3  1 May 12:04  harbour: 40 % slower since run 812: 5.90 s, before 4.20 s  (dismissed)\n" +
			"         saved before: a.go, b.go and 3 more\n         commits: c0ffee123..decade123": {Trends: []past.Trend{
			{ID: 3, Unit: "harbour", Since: now.AddDate(0, 0, -3), Text: "40 % slower since run 812: 5.90 s, before 4.20 s",
				Files: []string{"a.go", "b.go", "c.go"}, MoreFiles: 2, From: "c0ffee1234567", To: "decade1234567",
				Dismissed: true}}},
	} {
		assert.Equal(t, want, strings.Join(Rows(h, now), "\n"))
	}
}

// TestSince reads times as users write them.
func TestSince(t *testing.T) {
	for text, want := range map[string]time.Time{
		"": {}, "10m": now.Add(-10 * time.Minute), "14d": now.AddDate(0, 0, -14),
		"09:30":                time.Date(2030, 5, 4, 9, 30, 0, 0, time.UTC),
		"2030-05-01":           time.Date(2030, 5, 1, 0, 0, 0, 0, time.UTC),
		"2030-05-01T10:00:00Z": time.Date(2030, 5, 1, 10, 0, 0, 0, time.UTC),
	} {
		got, err := Since(text, now)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	_, err := Since("yesterday", now)
	assert.EqualError(t, err, `"yesterday" is neither a duration such as 10m nor a time such as 14:05`)
}
