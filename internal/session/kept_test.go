package session

import (
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/api"
	"omnivigil/internal/api/past"
	"omnivigil/internal/output/logbook"
	"omnivigil/internal/process"
	"omnivigil/internal/session/ended"
	recorder "omnivigil/internal/session/history"
	"omnivigil/internal/watch"
)

// TestSessionIsKept reads a session after its end: its state, its verdicts and its run. A second session of the project
// reads it, too.
func TestSessionIsKept(t *testing.T) {
	stage := &stage{t: t, file: filepath.Join(t.TempDir(), "omnivigil.toml")}
	logs, history := filepath.Join(t.TempDir(), "logs"), t.TempDir()
	begin := func(name string) (*Session, *spawner, func()) {
		dir, processes := filepath.Join(logs, name), &spawner{}
		s, err := Start(Config{
			Plan: stage.settings("[task.fares]\nrun = \"fares\"\n"), Logs: dir, History: history, State: t.TempDir(),
			Book: logbook.Open(dir, logbook.Options{}), Spawner: processes,
			Watch: func(int) (Watcher, error) { return &watcher{events: make(chan watch.Event)}, nil },
		})
		require.NoError(t, err)
		require.Eventually(t, func() bool { return processes.newest("fares") != nil }, time.Minute, time.Millisecond)
		return s, processes, func() {
			processes.newest("fares").exit(process.Exit{Code: 2})
			require.Eventually(t, func() bool { return s.shown().Verdict.Word == api.VerdictBroken }, time.Minute,
				time.Millisecond)
			_, err := s.Do(t.Context(), api.Request{Action: api.End})
			require.NoError(t, err)
			<-s.Done()
			s.book.(*logbook.Book).Close()
		}
	}
	const name = "20300504-090000.000"
	_, _, end := begin(name)
	end()

	from := &recorder.Reading{Dir: history}
	defer from.Close()
	of, err := ended.Open(t.Context(), from, nil, filepath.Join(logs, name), nil)
	require.NoError(t, err)
	check := func(of api.Record) {
		t.Helper()
		state, err := of.Snapshot(t.Context())
		require.NoError(t, err)
		assert.True(t, state.Ended)
		assert.Equal(t, api.Failed, state.Unit("fares").State)
		bad, err := of.VerdictAt(t.Context(), api.VerdictQuery{Turned: api.TurnedBad})
		require.NoError(t, err)
		assert.Equal(t, api.VerdictBroken, bad.Verdict.Word)
		_, err = of.VerdictAt(t.Context(), api.VerdictQuery{Turned: api.TurnedBad, At: bad.At.Add(-time.Second)})
		require.ErrorContains(t, err, "has not turned bad")
		page, err := of.Lines(t.Context(), api.LineQuery{Unit: "fares", Count: 1})
		require.NoError(t, err)
		assert.Len(t, page.Lines, 1)
		cases, err := of.Cases(t.Context(), api.ResultQuery{Units: []string{"fares"}})
		require.NoError(t, err)
		assert.Empty(t, cases.Cases)
	}
	check(of)

	s, _, end := begin("20300505-090000.000")
	earlier, err := s.Session(t.Context(), name)
	require.NoError(t, err)
	check(earlier)
	same, err := s.Session(t.Context(), name)
	require.NoError(t, err)
	assert.Same(t, earlier, same)
	own, err := s.Session(t.Context(), "20300505-090000.000")
	require.NoError(t, err)
	assert.Same(t, s, own)
	_, err = s.Session(t.Context(), "../../etc")
	require.ErrorContains(t, err, "named by the time when it began")
	_, err = s.Session(t.Context(), "20300501-090000.000")
	require.ErrorContains(t, err, "is not kept")
	h, err := s.History(t.Context(), past.Query{What: past.Runs})
	require.NoError(t, err)
	require.Len(t, h.Runs, 1)
	assert.Equal(t, "failed", h.Runs[0].Outcome)
	end()
}
