package reader_test

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/api"
	"omnivigil/internal/api/past"
	"omnivigil/internal/store/history"
	"omnivigil/internal/store/history/madeup"
	"omnivigil/internal/store/history/reader"
)

// TestMonth reads a made-up month of the demo.
func TestMonth(t *testing.T) {
	dir, now := t.TempDir(), time.Now()
	_, err := reader.Read(dir)
	require.ErrorIs(t, err, reader.ErrNone)
	_, err = madeup.Ferries(now).Write(dir, history.Limits{})
	require.NoError(t, err)
	r, err := reader.Read(dir)
	require.NoError(t, err)
	defer r.Close()
	ask := func(q past.Query) past.History {
		h, err := r.History(t.Context(), q)
		require.NoError(t, err)
		assert.WithinDuration(t, now.AddDate(0, 0, -30), h.From, 4*24*time.Hour)
		return h
	}

	units := ask(past.Query{}).Units
	require.Len(t, units, 8)
	harbour := units[slices.IndexFunc(units, func(u past.Unit) bool { return u.Unit == "harbour" })]
	assert.Positive(t, harbour.Broken)
	assert.InDelta(t, 2, harbour.Median.Duration().Seconds(), 0.3)
	assert.Less(t, harbour.Quarter, harbour.Three)

	runs := ask(past.Query{What: past.Runs, Units: []string{"harbour"}, Branch: "main", Count: 20})
	require.Len(t, runs.Runs, 20)
	assert.True(t, runs.More)
	assert.True(t, runs.Runs[0].Began.After(runs.Runs[19].Began), "newest first")
	assert.Equal(t, 10, runs.Runs[0].Passed+runs.Runs[0].Failed)
	assert.Empty(t, ask(past.Query{What: past.Runs, Branch: "other"}).Runs)

	week := past.Query{
		What:  past.Ripples,
		Units: []string{"timetable"},
		Since: now.AddDate(0, 0, -7),
		Count: past.MaxCount,
	}
	for _, ripple := range ask(week).Ripples {
		assert.Contains(t, ripple.Units, "timetable")
		assert.True(t, ripple.Since.After(week.Since))
		assert.NotEmpty(t, ripple.Paths)
	}

	tests := ask(past.Query{What: past.Tests}).Tests
	require.Len(t, tests, 10)
	buoy := tests[0]
	assert.Equal(t, "tides/the buoy answers in time", buoy.Name, "the flaky one comes first")
	assert.Equal(t, []string{past.Load}, buoy.Coincides)
	assert.Less(t, buoy.Low, float64(buoy.Failed)/float64(buoy.Runs))
	one := ask(past.Query{What: past.Tests, Units: []string{"harbour"}, Test: past.Test{Name: buoy.Name}}).Tests
	assert.Equal(t, []past.Test{buoy}, one)

	trends := ask(past.Query{What: past.Trends}).Trends
	require.Len(t, trends, 3)
	slower := ask(past.Query{What: past.Trends, Units: []string{"timetable"}}).Trends
	require.Len(t, slower, 1)
	assert.NotEmpty(t, slower[0].Files)
	require.NoError(t, reader.Dismiss(dir, slower[0].ID))
	assert.True(t, ask(past.Query{What: past.Trends, Units: []string{"timetable"}}).Trends[0].Dismissed)

	days := ask(past.Query{What: past.Days, Units: []string{"timetable"}}).Days
	assert.InDelta(t, 21, len(days), 2, "nobody works on weekends")
	assert.Greater(t, days[len(days)-1].Took[2], 1.3*days[0].Took[2])
	sum := 0
	for _, day := range ask(past.Query{What: past.Days, Units: []string{"harbour"}, Test: past.Test{Name: buoy.Name}}).Days {
		sum += day.Runs
	}
	assert.Equal(t, buoy.Runs, sum, "packed days and those that are stored run by run")
	assert.Empty(t, ask(past.Query{What: past.Days, Units: []string{"harbour"}, Test: past.Test{Name: "nothing"}}).Days)
	t.Run("sessions", func(t *testing.T) { endedSessions(t, r) })
}

// endedSessions reads the sessions of the month, and the last one as it ended.
func endedSessions(t *testing.T, r *reader.Reader) {
	h, err := r.History(t.Context(), past.Query{What: past.Sessions, Count: 5})
	require.NoError(t, err)
	require.Len(t, h.Sessions, 5)
	last, before := h.Sessions[0], h.Sessions[1]
	assert.True(t, before.Ended.Before(last.Began), "newest first")
	assert.True(t, last.Kept && last.InOrder)

	state, err := r.State(t.Context(), last.Name)
	require.NoError(t, err)
	assert.Len(t, state.Units, 8)
	assert.NotEmpty(t, state.Unit("harbour").Marks)
	_, err = r.State(t.Context(), "nothing")
	require.ErrorIs(t, err, reader.ErrNone)

	bad, err := r.VerdictAt(t.Context(), last.Name, api.VerdictQuery{Turned: api.TurnedBad})
	require.NoError(t, err)
	assert.Equal(t, api.VerdictBroken, bad.Verdict.Word)
	at, err := r.VerdictAt(t.Context(), last.Name, api.VerdictQuery{At: bad.At.Add(time.Millisecond)})
	require.NoError(t, err)
	assert.Equal(t, bad, at)
	_, err = r.VerdictAt(t.Context(), last.Name, api.VerdictQuery{At: last.Began})
	require.ErrorIs(t, err, reader.ErrNone)

	samples := map[string]int{}
	for from := int64(0); ; {
		page, err := r.Samples(t.Context(), last.Name, from)
		require.NoError(t, err)
		if len(page.Samples) == 0 {
			break
		}
		for _, s := range page.Samples {
			samples[s.Unit]++
			assert.False(t, s.At.Before(last.Began) || s.At.After(last.Ended))
		}
		require.Greater(t, page.Next, from)
		from = page.Next
	}
	assert.Len(t, samples, 4, "the services")

	for _, of := range []time.Time{last.Ended, before.Ended} {
		cases, err := r.CasesAt(t.Context(), of)
		require.NoError(t, err)
		assert.Len(t, cases, 10, "each test once, with its newest result")
	}
}

// TestFindingsAt reads the findings of a time.
func TestFindingsAt(t *testing.T) {
	dir, began := t.TempDir(), time.Now().Add(-time.Hour).Truncate(time.Millisecond)
	w := history.New(dir, history.Session{Name: "one", Began: began}, history.Limits{},
		func(problem string) { t.Error(problem) }, func(history.Trend) {})
	found := api.Finding{Severity: api.SeverityError, Message: "no berth", Change: api.NewFinding}
	found.File, found.Line = "berths.go", 7
	w.Found(history.Finding{Unit: "berths", Kind: "task", At: began.Add(time.Minute), Finding: found})
	found.Change = api.GoneFinding
	w.Found(history.Finding{Unit: "berths", Kind: "task", At: began.Add(3 * time.Minute), Finding: found})
	w.Close()
	r, err := reader.Read(dir)
	require.NoError(t, err)
	defer r.Close()
	for minutes, want := range []int{0, 1, 1, 0} {
		all, err := r.FindingsAt(t.Context(), began.Add(time.Duration(minutes)*time.Minute+time.Second))
		require.NoError(t, err)
		assert.Len(t, all, want, "after %d minutes", minutes)
	}
}

// TestCompare compares two commits and branches, between which a unit has become slower.
func TestCompare(t *testing.T) {
	dir := t.TempDir()
	w := history.New(
		dir,
		history.Session{Name: "one", Began: time.Now()},
		history.Limits{},
		func(problem string) { t.Error(problem) },
		func(history.Trend) {},
	)
	for n := range 40 {
		at, took := time.Now().Add(time.Duration(n)*time.Minute), time.Second+time.Duration(n%7)*10*time.Millisecond
		if n >= 20 {
			took *= 2
		}
		w.Ran(history.Run{
			Unit: "fares", Kind: "task", State: api.Done, Took: took,
			Run:      api.Run{Number: n + 1, OrderedAt: at, EndedAt: at.Add(took)},
			Revision: history.Revision{Hash: []string{"aaaa1111", "bbbb2222"}[n/20], Branch: []string{"main", "work"}[n/20]},
		})
	}
	w.Close()
	r, err := reader.Read(dir)
	require.NoError(t, err)
	defer r.Close()
	for _, names := range [][2]string{{"main", "work"}, {"aaaa", "bbbb2222"}} {
		c, err := r.Compare(t.Context(), past.Query{}, names[0], names[1])
		require.NoError(t, err)
		assert.Equal(t, [2]int{20, 20}, [2]int{c.RunsA, c.RunsB})
		require.Len(t, c.Differences, 1)
		assert.Equal(t, "duration", c.Differences[0].Measure)
		assert.InDelta(t, 2, c.Differences[0].Ratio, 0.05)
	}
	c, err := r.Compare(t.Context(), past.Query{}, "main", "aaaa1111")
	require.NoError(t, err)
	assert.Empty(t, c.Differences)
}
