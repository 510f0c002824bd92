package session

import (
	"bytes"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/api"
	"omnivigil/internal/engine"
	"omnivigil/internal/engine/explain"
	"omnivigil/internal/output/logbook"
	"omnivigil/internal/plan"
	"omnivigil/internal/plan/settings"
	"omnivigil/internal/process"
	"omnivigil/internal/session/impact"
	"omnivigil/internal/session/run"
	"omnivigil/internal/watch"
	"omnivigil/internal/watch/pattern"
)

// The doubles of what a session depends on: nothing is watched, run or written, and the test sets the time.

type watcher struct {
	events chan watch.Event
	behind []int // calls of CatchUp that the test must answer
}

func (w *watcher) Events() <-chan watch.Event { return w.events }
func (w *watcher) Close()                     {}
func (w *watcher) Err() error                 { return errors.New("the system is out of order") }
func (w *watcher) CatchUp(number int)         { w.behind = append(w.behind, number) }
func (w *watcher) Files(string) []watch.File  { return nil }
func (w *watcher) SetInterests(_ []pattern.Interest, number int) {
	go func() { w.events <- watch.Watching{Number: number} }()
}

type book struct {
	*logbook.Book
	mu    sync.Mutex
	lines []string
}

func (b *book) Append(e logbook.Entry, texts ...string) {
	b.Book.Append(e, texts...)
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, text := range texts {
		b.lines = append(b.lines, strings.TrimSpace(e.Unit+" "+text))
	}
}

func (b *book) AppendBlock(e logbook.Entry, block []byte) {
	for line := range bytes.Lines(block) {
		b.Append(e, strings.TrimRight(string(line), "\r\n"))
	}
}

func (b *book) String() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return strings.Join(b.lines, "\n")
}

// actor is a process that the test directs.
type actor struct {
	run.NoTerminal
	spec process.Spec
	id   int

	mu      sync.Mutex
	signals []string
	over    bool
}

func (p *actor) ID() int { return p.id }

func (p *actor) AllRead() bool { return true }
func (*actor) LookAhead()      {}

func (p *actor) Working() bool { return false }

func (p *actor) Signal(name string) error {
	p.note(name)
	if name != "USR2" { // the one signal that they ignore
		p.exit(process.Exit{Code: -1, Signal: "SIG" + name})
	}
	return nil
}

func (p *actor) TypeEnd(text string) error { return p.Signal("typed " + text) }

func (p *actor) SignalLeader(name string) error {
	p.note("leader " + name)
	return nil
}

func (p *actor) note(signal string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.signals = append(p.signals, signal)
}

func (p *actor) heard() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return strings.Join(p.signals, ", ")
}

func (p *actor) exit(x process.Exit) {
	p.mu.Lock()
	was := p.over
	p.over = true
	p.mu.Unlock()
	if !was {
		go p.spec.Exited(x)
	}
}

type spawner struct {
	mu    sync.Mutex
	all   []*actor
	taken map[netip.AddrPort]string
	says  string // what processes write before Start returns
}

func (s *spawner) Start(spec process.Spec) (run.Process, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	p := &actor{spec: spec, id: len(s.all) + 1}
	s.all = append(s.all, p)
	if s.says != "" {
		spec.Output([]byte(s.says))
		time.Sleep(time.Millisecond) // others do what they have to do
	}
	return p, nil
}

func (s *spawner) Holder(a netip.AddrPort) (string, bool) {
	who, taken := s.taken[a]
	return who, taken
}

func (s *spawner) Listens(int) bool { return false }

// newest returns the most recently started process with that command line.
func (s *spawner) newest(command string) *actor {
	s.mu.Lock()
	defer s.mu.Unlock()
	for i := len(s.all) - 1; i >= 0; i-- {
		if words := s.all[i].spec.Argv; words[len(words)-1] == command {
			return s.all[i]
		}
	}
	return nil
}

// stage is a session on doubles.
type stage struct {
	*Session
	t       *testing.T
	file    string
	watcher *watcher
	spawner *spawner
	book    *book
	burst   int
	unopen  atomic.Pointer[string] // why no watcher can be opened
}

func (s *stage) open(after int) (Watcher, error) {
	if why := s.unopen.Load(); why != nil {
		return nil, errors.New(*why)
	}
	s.burst = after
	s.watcher = &watcher{events: make(chan watch.Event)}
	return s.watcher, nil
}

// play runs a test in a bubble with its own clock, with a project of these settings.
func play(t *testing.T, text string, test func(*stage)) {
	synctest.Test(t, func(t *testing.T) {
		s := &stage{
			t:       t,
			file:    filepath.Join(t.TempDir(), plan.FileName),
			spawner: &spawner{},
			book:    &book{Book: logbook.Open(t.TempDir(), logbook.Options{})},
		}
		p := s.settings(text)
		var err error
		s.Session, err = Start(Config{Plan: p, Book: s.book, State: t.TempDir(), Watch: s.open, Spawner: s.spawner})
		require.NoError(t, err)
		synctest.Wait()
		test(s)
		s.Request(engine.Quit)
		time.Sleep(time.Minute)
		<-s.Done()
		s.book.Close()
	})
}

func (s *stage) settings(text string) *plan.Plan {
	require.NoError(s.t, os.WriteFile(s.file, []byte(text), 0o600))
	p, err := settings.Read(s.file)
	require.NoError(s.t, err)
	return p
}

// save reports that one file that affects these units was saved, as a watcher would.
func (s *stage) save(path string, keys ...string) {
	s.burst++
	s.watcher.events <- watch.Touched{Burst: s.burst, Keys: keys}
	synctest.Wait()
	c := watch.Change{Burst: s.burst, Since: time.Now()}
	for _, key := range keys {
		h := watch.Hit{Key: key, Path: path, What: "written"}
		if u := s.Plan().Unit(key); u != nil && len(u.Reactions) > 0 {
			h.Pattern = u.Reactions[0].When.Text
		}
		c.Hits = append(c.Hits, h)
	}
	s.watcher.events <- c
	synctest.Wait()
}

func (s *stage) pass(d time.Duration) {
	time.Sleep(d)
	synctest.Wait()
}

func (s *stage) verdict() string {
	snap := s.state()
	return fmt.Sprintf("%s %s", snap.Verdict.Word, explain.Verdict(snap))
}

func TestSaveRestarts(t *testing.T) {
	play(t, `
[service.api]
run = "api"
watch = ["*.go"]
`, func(s *stage) {
		first := s.spawner.newest("api")
		s.pass(time.Second)
		assert.Contains(t, s.verdict(), "CURRENT api (run 1) runs, started in 0.50 s")
		s.save("a.go", "api")
		assert.Equal(t, "TERM", first.heard())
		second := s.spawner.newest("api")
		assert.NotSame(t, first, second)
		assert.Contains(t, second.spec.Env, "OMNIVIGIL_RUN=2")
		s.pass(time.Second)
		assert.Contains(t, s.book.String(), "api restarts: a.go changed")
		assert.Contains(t, s.verdict(), "CURRENT api (run 2) runs the code saved")
	})
}

// TestSettingsAreAdopted checks that the project is updating from the first write of the settings until they are
// used.
func TestSettingsAreAdopted(t *testing.T) {
	play(t, "[service.api]\nrun = \"api\"\n", func(s *stage) {
		s.pass(time.Second)
		s.watcher.events <- watch.Touched{Burst: 1, Keys: []string{impact.Settings}}
		synctest.Wait()
		assert.Equal(t, "UPDATING reading the settings just saved", s.verdict())
		s.settings("[service.api]\nrun = \"other\"\n")
		s.watcher.events <- watch.Change{Burst: 1, Hits: []watch.Hit{{Key: impact.Settings}}}
		s.pass(time.Second)
		assert.Contains(t, s.verdict(), "CURRENT api (run 2) runs the code saved")
		assert.NotNil(t, s.spawner.newest("other"))
		assert.Contains(t, s.book.String(), "new in the settings: api runs: other")

		// Touched without a change of contents.
		s.watcher.events <- watch.Touched{Burst: 2, Keys: []string{impact.Settings}}
		synctest.Wait()
		s.watcher.events <- watch.Unchanged{Burst: 2, Keys: []string{impact.Settings}}
		s.pass(time.Second)
		assert.Contains(t, s.verdict(), "CURRENT")
		s.opened("gone", netip.AddrPort{}) // of a unit that an edit has just removed
	})
}

func TestReloadReachesTheLeader(t *testing.T) {
	play(t, `
[service.front]
run = "front"
[[service.front.reaction]]
when = "*.conf"
do = "signal:HUP"
`, func(s *stage) {
		s.pass(time.Second)
		s.save("a.conf", "front")
		p := s.spawner.newest("front")
		assert.Equal(t, "leader HUP", p.heard())
		p.exit(process.Exit{Code: 3})
		s.pass(time.Second)
		assert.Contains(t, s.verdict(), "BROKEN front crashed (exit 3)")
	})
}

// TestReadyCommand checks that a readiness command belongs to its run: it has the run's variables, no terminal, and
// ends with the run.
func TestReadyCommand(t *testing.T) {
	play(t, `
[service.db]
run = "db"
ready = { run = "is-ready", within = "1s" }
`, func(s *stage) {
		s.pass(5 * time.Millisecond)
		probe := s.spawner.newest("is-ready")
		assert.Equal(t, process.NoTerminal, probe.spec.Terminal)
		assert.Contains(t, probe.spec.Env, "OMNIVIGIL_UNIT=db")
		probe.spec.Output([]byte("starting\n\x1b[2Jno tide yet\n"))
		probe.exit(process.Exit{Code: 2})
		s.pass(900 * time.Millisecond)
		s.pass(time.Second)
		assert.Contains(t, s.book.String(), "waited for is-ready, last seen: exit 2: no tide yet; it keeps running")
		assert.Contains(t, s.verdict(), "BROKEN")

		late := s.spawner.newest("is-ready")
		late.exit(process.Exit{})
		s.pass(time.Second)
		assert.Contains(t, s.verdict(), "CURRENT")

		s.Request(engine.RestartUnit, "db")
		s.pass(100 * time.Millisecond)
		hanging := s.spawner.newest("is-ready")
		s.spawner.newest("db").exit(process.Exit{Code: 1})
		s.pass(time.Second)
		assert.Contains(t, hanging.heard(), "KILL", "it does not outlive its run")
	})
}

// TestReadyBeforeItIsKnown has a process write its ready line before the engine knows that it was spawned.
func TestReadyBeforeItIsKnown(t *testing.T) {
	play(t, `
[service.db]
run = "db"
ready = { line = "open" }
start = "manual"
prelude = ["quick"]
`, func(s *stage) {
		s.Request(engine.StartUnit, "db")
		synctest.Wait()
		s.spawner.says = "open\n"
		s.spawner.newest("quick").exit(process.Exit{})
		s.pass(time.Second)
		assert.Contains(t, s.book.String(), "db is ready")
	})
}

// TestPreparesIsSaidFirst checks that the line about a step comes before the step's output.
func TestPreparesIsSaidFirst(t *testing.T) {
	play(t, "[task.gen]\nsetup = [\"install\"]\nrun = \"gen\"\n", func(s *stage) {
		step := s.spawner.newest("install")
		assert.Equal(t, process.ShownTerminal, step.spec.Terminal)
		step.spec.Output([]byte("installing\n"))
		step.exit(process.Exit{})
		synctest.Wait()
		s.spawner.newest("gen").exit(process.Exit{})
		s.pass(time.Second)
		lines := s.book.String()
		assert.Less(t, strings.Index(lines, "gen prepares: install"), strings.Index(lines, "gen installing"))

		s.Request(engine.RestartUnit, "gen")
		synctest.Wait()
		assert.Same(t, step, s.spawner.newest("install"), "it is done")
		s.spawner.newest("gen").exit(process.Exit{})
		synctest.Wait()
		s.Request(engine.SetUpUnit, "gen")
		synctest.Wait()
		assert.NotSame(t, step, s.spawner.newest("install"), "it was asked for")
	})
}

// TestSharedStep runs a step once for two units.
func TestSharedStep(t *testing.T) {
	play(t, "[defaults]\nsetup = [\"install\"]\n[task.a]\nrun = \"a\"\n[task.b]\nrun = \"b\"\n", func(s *stage) {
		require.Len(t, s.spawner.all, 1, "one waits for the other")
		s.spawner.newest("install").exit(process.Exit{})
		s.pass(time.Second)
		require.Len(t, s.spawner.all, 3)
		assert.NotNil(t, s.spawner.newest("a"))
		assert.NotNil(t, s.spawner.newest("b"))
	})
}

func TestPromptAppears(t *testing.T) {
	play(t, "[service.db]\nrun = \"db\"\n", func(s *stage) {
		p := s.spawner.newest("db")
		p.spec.Output([]byte("migrate? [y/N] "))
		assert.NotContains(t, s.book.String(), "migrate?")
		s.pass(run.PromptPause)
		assert.Contains(t, s.book.String(), "db migrate? [y/N]")
		p.spec.Output([]byte("yes\ndone\n"))
		assert.Contains(t, s.book.String(), "db yes\ndb done")
	})
}

func TestTakenPort(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := &stage{
			t:    t,
			file: filepath.Join(t.TempDir(), plan.FileName),
			book: &book{Book: logbook.Open(t.TempDir(), logbook.Options{})},
		}
		p := s.settings("[service.api]\nrun = \"api\"\nready = { http = \"http://127.0.0.2:4102/\" }\n")
		session, err := Start(
			Config{
				Plan:  p,
				Book:  s.book,
				State: t.TempDir(),
				Watch: func(int) (Watcher, error) { return &watcher{events: make(chan watch.Event)}, nil },
				Spawner: &spawner{
					taken: map[netip.AddrPort]string{netip.MustParseAddrPort("127.0.0.2:4102"): "process 7 (nginx)"},
				},
			},
		)
		require.NoError(t, err)
		synctest.Wait()
		assert.Contains(t, s.book.String(), "api does not start: port 4102 is taken by process 7 (nginx)")
		session.Request(engine.Quit)
		<-session.Done()
		s.book.Close()
	})
}

// TestElsewhere reports once a file that no rule matches, with the closest rule.
func TestElsewhere(t *testing.T) {
	play(t, "[service.api]\nrun = \"api\"\nwatch = [\"app/views/**/*.html\"]\n", func(s *stage) {
		s.save("app/veiws/a.html", impact.Elsewhere)
		assert.NotContains(t, s.book.String(), "no rule", "it may be its own")
		s.pass(5 * time.Second)
		s.save("app/veiws/a.html", impact.Elsewhere)
		s.save("app/veiws/a.html", impact.Elsewhere)
		assert.Equal(
			t,
			1,
			strings.Count(s.book.String(), `no rule matches app/veiws/a.html; nearest is "app/views/**/*.html" of api`),
		)
	})
}

// TestNamesActOnNothing shows the control characters in names as text.
func TestNamesActOnNothing(t *testing.T) {
	play(t, "[service.api]\nrun = \"api\"\nwatch = [\"**\"]\n", func(s *stage) {
		s.pass(time.Second)
		s.save("a\x1b[2J\u202e.go", "api")
		assert.Contains(t, s.book.String(), `api restarts: a\x1b[2J\u202e.go changed`)
	})
}

// TestNotWatched ends the watcher while a save is not at rest: the verdict says so until another watcher is opened,
// which treats every watched file as changed. Waiting faces are notified and stop waiting.
func TestNotWatched(t *testing.T) {
	play(
		t,
		"[task.fares]\nrun = \"fares\"\nwatch = [\"a\"]\n[service.api]\nrun = \"api\"\nwatch = [\"*.go\"]\n",
		func(s *stage) {
			s.spawner.newest("fares").exit(process.Exit{})
			s.pass(5 * time.Second)
			require.Equal(t, engine.VerdictCurrent, s.state().Verdict.Word)

			s.watcher.events <- watch.Touched{Burst: 1, Keys: []string{"api", impact.Settings}}
			why := "too many open files"
			s.unopen.Store(&why)
			close(s.watcher.events)
			synctest.Wait()
			assert.Equal(t, "STALE files are not watched: too many open files", s.verdict())
			waited, err := s.Wait(s.t.Context(), api.WaitQuery{})
			require.NoError(t, err)
			assert.False(t, waited.OK)

			s.unopen.Store(nil)
			s.pass(5 * time.Second)
			assert.Contains(t, s.book.String(), "files are watched again")
			assert.Contains(t, s.book.String(), "api restarts: the watched files may have changed")
			assert.Contains(t, s.book.String(), "fares reruns: the watched files may have changed")
			s.spawner.newest("fares").exit(process.Exit{})
			s.pass(5 * time.Second)
			assert.Equal(t, engine.VerdictCurrent, s.state().Verdict.Word)

			close(s.watcher.events) // even if each new watcher ends at once, at most one is opened per second
			synctest.Wait()
			close(s.watcher.events)
			synctest.Wait()
			assert.Equal(t, engine.VerdictStale, s.state().Verdict.Word)
		},
	)
}
