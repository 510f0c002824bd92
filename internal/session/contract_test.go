package session

import (
	"context"
	"encoding/json"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/api"
	"omnivigil/internal/engine"
	"omnivigil/internal/engine/simulate"
	"omnivigil/internal/engine/simulate/random"
	"omnivigil/internal/process"
	"omnivigil/internal/session/snapshot"
	"omnivigil/internal/text/escape"
	"omnivigil/internal/watch"
)

// TestChangesAreEnough plays random projects and sends full snapshots to one face and only the changes to another,
// both as JSON: they see the same.
func TestChangesAreEnough(t *testing.T) {
	asJSON := func(v any) string {
		data, err := json.Marshal(v)
		require.NoError(t, err)
		return string(data)
	}
	for seed := range uint64(25) {
		var b snapshot.Builder
		var last, seen *api.Snapshot
		var of *engine.Engine
		var failed bool
		random.Play(seed, false, func(w *simulate.World) {
			check := w.After
			w.After = func(ev engine.Event, orders []engine.Order) {
				check(ev, orders)
				if failed || w.Steps%3 != 0 {
					return
				}
				if of != w.Engine { // a new session
					of, last, b = w.Engine, nil, snapshot.Builder{}
				}
				now := b.Build(escape.Lines, w.Engine.Snapshot(), w.Plan)
				if last == nil {
					seen = &api.Snapshot{}
					require.NoError(t, json.Unmarshal([]byte(asJSON(now)), seen))
				} else {
					change := &api.Update{}
					require.NoError(t, json.Unmarshal([]byte(asJSON(api.Diff(last, now))), change))
					seen = seen.Apply(change)
				}
				last = now
				// The times of a face, read back, have another time zone.
				reread := &api.Snapshot{}
				require.NoError(t, json.Unmarshal([]byte(asJSON(now)), reread))
				failed = !assert.JSONEq(t, asJSON(reread), asJSON(seen), "seed %d, step %d, %T", seed, w.Steps, ev)
			}
		})
		require.False(t, failed)
	}
}

// TestWait returns when everything written before is at rest, and not before the watcher has caught up.
func TestWait(t *testing.T) {
	play(t, "[service.api]\nrun = \"api\"\nwatch = [\"*.go\"]\n[service.other]\nrun = \"other\"\n", func(s *stage) {
		s.pass(time.Second)
		answer := make(chan api.Waited, 1)
		wait := func(q api.WaitQuery) {
			go func() {
				w, err := s.Wait(context.Background(), q)
				assert.NoError(t, err)
				answer <- w
			}()
			synctest.Wait()
		}
		over := func() bool { synctest.Wait(); return len(answer) > 0 }
		caughtUp := func() {
			s.watcher.events <- watch.CaughtUp{Number: s.watcher.behind[len(s.watcher.behind)-1]}
		}
		wait(api.WaitQuery{})
		assert.False(t, over(), "there may be a write that is not known yet")
		s.watcher.events <- watch.Touched{Burst: 1, Keys: []string{"api"}}
		caughtUp()
		assert.False(t, over(), "it has not come to rest")
		s.watcher.events <- watch.Change{Burst: 1, Since: time.Now(),
			Hits: []watch.Hit{{Key: "api", Path: "a.go", What: "written"}}}
		assert.False(t, over(), "it is starting")
		s.pass(time.Second)
		require.True(t, over())
		assert.True(t, (<-answer).OK)

		s.spawner.newest("api").spec.Output([]byte("error: no tide\n"))
		s.spawner.newest("api").exit(process.Exit{Code: 3})
		synctest.Wait()
		wait(api.WaitQuery{})
		caughtUp()
		require.True(t, over())
		w := <-answer
		assert.False(t, w.OK)
		assert.Equal(t, api.VerdictBroken, w.Verdict.Word)
		require.Len(t, w.Trouble, 1)
		assert.Equal(t, "api", w.Trouble[0].Unit)
		assert.Equal(t, "error: no tide", w.Trouble[0].Line.Text)

		wait(api.WaitQuery{Units: []string{"other"}})
		caughtUp()
		require.True(t, over())
		assert.True(t, (<-answer).OK, "it is current, whatever the others are")

		wait(api.WaitQuery{Timeout: api.Seconds(time.Minute)})
		s.pass(2 * time.Minute) // the watcher hangs
		require.True(t, over())
		assert.True(t, (<-answer).TimedOut)
		_, err := s.Wait(context.Background(), api.WaitQuery{Units: []string{"nobody"}})
		assert.ErrorContains(t, err, "there is no unit or group \"nobody\"")
	})
}

// TestWaitForARetry counts the pause before a retry of a service as work in progress, also for the units that need
// it.
func TestWaitForARetry(t *testing.T) {
	play(
		t,
		"[service.db]\nrun = \"db\"\nafter_exit = \"retry\"\n[task.gen]\nrun = \"gen\"\nneeds = [\"db\"]\n",
		func(s *stage) {
			synctest.Wait()
			s.spawner.newest("db").exit(process.Exit{Code: 1})
			synctest.Wait()
			answer := make(chan api.Waited, 1)
			go func() {
				w, _ := s.Wait(context.Background(), api.WaitQuery{Units: []string{"gen"}})
				answer <- w
			}()
			synctest.Wait()
			s.watcher.events <- watch.CaughtUp{Number: s.watcher.behind[0]}
			synctest.Wait()
			assert.Empty(t, answer, "it is started again")
			s.pass(5 * time.Second)
			s.spawner.newest("gen").exit(process.Exit{})
			synctest.Wait()
			require.Len(t, answer, 1)
			assert.True(t, (<-answer).OK)
		},
	)
}

// TestRequestsAreAnswered returns the ripple that a request has opened, or an error in words.
func TestRequestsAreAnswered(t *testing.T) {
	play(t, "[service.api]\nrun = \"api\"\n[group.all]\nunits = [\"api\"]\n", func(s *stage) {
		s.pass(time.Second)
		do := func(a api.Action, units ...string) (api.Answer, error) {
			return s.Do(context.Background(), api.Request{Action: a, Units: units})
		}
		answer, err := do(api.Restart, "all")
		require.NoError(t, err)
		assert.Equal(t, api.Answer{Ripple: 2}, answer)
		s.pass(time.Second)
		answer, err = do(api.Start, "api")
		require.NoError(t, err)
		assert.Equal(t, api.Answer{Text: "Nothing had to be done."}, answer, "it runs")
		for _, test := range []struct {
			action api.Action
			units  []string
			says   string
		}{
			{"dance", []string{"api"}, `there is no action "dance"`},
			{api.Stop, nil, "stop needs the names of units"},
			{api.End, []string{"api"}, "end is for the whole project"},
			{api.Restart, []string{"ap"}, `there is no unit or group "ap"; did you mean "api"?`},
			{api.WriteCure, []string{"api"}, "api is not in a loop"},
		} {
			_, err := do(test.action, test.units...)
			assert.ErrorContains(t, err, test.says)
		}
	})
}

// TestFaces checks that faces follow the project and are counted, and that the end of the last one is reported.
func TestFaces(t *testing.T) {
	play(t, "[service.api]\nrun = \"api\"\n", func(s *stage) {
		deserted := 0
		s.deserted = func() { deserted++ }
		s.pass(time.Second)
		ctx, stop := context.WithCancel(context.Background())
		var seen []*api.Snapshot
		follow := func(ctx context.Context, kind string) {
			go s.Follow(ctx, api.Face{Kind: kind}, func(snap *api.Snapshot) error {
				seen = append(seen, snap)
				return nil
			})
			synctest.Wait()
		}
		follow(ctx, "screen")
		require.Len(t, seen, 1)
		s.save("a.go", "api")
		s.pass(time.Second)
		n := len(seen)
		assert.Less(t, n, 12, "many steps are one frame")
		assert.Equal(t, api.VerdictCurrent, seen[n-1].Verdict.Word)
		assert.Equal(t, []api.Face{{Kind: "screen", UsedAt: seen[n-1].Faces[0].UsedAt}}, seen[n-1].Faces)
		s.pass(time.Minute)
		assert.Len(t, seen, n, "nothing happens")
		stop()
		synctest.Wait()
		assert.Equal(t, 1, deserted)
		follow(context.Background(), "")
		_, err := s.Do(context.Background(), api.Request{Action: api.LeaveRunning})
		require.NoError(t, err)
		s.Enter(api.Face{Kind: "plain"})()
		assert.Equal(t, 1, deserted, "it may keep running without a face now")
		assert.NotEmpty(t, seen[0].Units)
	})
}

// TestSubscribe receives all facts, and the end.
func TestSubscribe(t *testing.T) {
	var kinds []string
	play(t, "[task.api]\nrun = \"api\"\n", func(s *stage) {
		go s.Subscribe(context.Background(), 0, func(f api.Fact) error {
			kinds = append(kinds, f.Kind)
			return nil
		})
		s.pass(time.Second)
		s.spawner.newest("api").exit(process.Exit{})
		s.pass(time.Second)
		assert.Equal(t, []string{"ripple-opened", "run-started", "run-ended", "ripple-rested", "unit-current"}, kinds)
	})
	assert.Equal(t, "ended", kinds[len(kinds)-1])
}
