package session

import (
	"context"
	"slices"
	"sync"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/engine"
	"omnivigil/internal/logbook"
	"omnivigil/internal/plan"
)

var _ api.Project = (*Session)(nil)

// showing is what faces see of the session, and who they are.
type showing struct {
	mu      sync.Mutex
	about   api.About
	builder builder
	newest  *api.Snapshot // that was made
	of      *engine.Snapshot
	number  int64
	faces   []*api.Face

	background bool
	ended      bool
}

// Snapshot implements api.Project.
func (s *Session) Snapshot(context.Context) (*api.Snapshot, error) { return s.shown(), nil }

// shown returns the project as it is now: the newest snapshot that was made, if nothing has
// changed since.
func (s *Session) shown() *api.Snapshot {
	sh := &s.showing
	sh.mu.Lock()
	defer sh.mu.Unlock()
	now, p := s.snapshot.Load(), s.shownPlan.Load()
	next := sh.newest
	if next == nil || sh.of != now || sh.builder.plan != p {
		next = sh.builder.build(s, now, p)
		sh.of = now
	} else {
		copied := *next
		next = &copied
	}
	next.Project = sh.about
	next.Project.Name, next.Project.Groups = p.Name, groups(p)
	next.Uses = uses(s)
	next.Faces = []api.Face{}
	for _, f := range sh.faces {
		if f.Kind != "" {
			next.Faces = append(next.Faces, *f)
		}
	}
	next.Background, next.Ended, next.Lines = sh.background, sh.ended, s.book.Len(logbook.All)
	next.LogProblem = ""
	if err := s.book.Err(); err != nil {
		next.LogProblem = s.clean(err.Error())
	}
	if sh.newest == nil || api.Differ(sh.newest, next) {
		sh.number++
		next.Number = sh.number
		sh.newest, sh.builder.made = next, next
	}
	return sh.newest
}

func groups(p *plan.Plan) map[string][]string {
	if len(p.Groups) == 0 {
		return nil
	}
	out := make(map[string][]string, len(p.Groups))
	for _, g := range p.Groups {
		out[g.Name] = g.Units
	}
	return out
}

func uses(s *Session) map[string]api.Use {
	out := map[string]api.Use{}
	if s.meter == nil {
		return out
	}
	for unit, u := range s.meter.Uses() {
		out[unit] = api.Use{CPU: u.CPU, Memory: u.Memory, Addresses: u.Endpoints}
	}
	return out
}

// Follow implements api.Project.
func (s *Session) Follow(ctx context.Context, face api.Face, show func(*api.Snapshot) error) error {
	if face.Kind != "" {
		defer s.Enter(face)()
	}
	changed, stopChanged := s.Changed()
	defer stopChanged()
	grown, stopGrown := s.book.Grown()
	defer stopGrown()
	next := time.NewTimer(0)
	defer next.Stop()
	for last := int64(0); ; {
		select {
		case <-next.C:
		case <-ctx.Done():
			return ctx.Err()
		}
		snap := s.shown()
		if snap.Number != last {
			last = snap.Number
			if err := show(snap); err != nil {
				return err
			}
		}
		if snap.Ended {
			return nil
		}
		next.Reset(api.Frame)
		select {
		case <-changed:
		case <-grown:
		case <-s.done:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// Enter counts somebody as one of the project's faces until the function that it returns is
// called. One without a kind is not shown to others.
func (s *Session) Enter(face api.Face) (leave func()) {
	s.showing.mu.Lock()
	s.showing.faces = append(s.showing.faces, &face)
	s.showing.mu.Unlock()
	s.tellFace(api.FactFaceCame, "a face has come: ", face)
	var once sync.Once
	return func() { once.Do(func() { s.left(&face) }) }
}

func (s *Session) tellFace(kind, text string, face api.Face) {
	if face.Kind != "" {
		s.account.add(api.Fact{At: time.Now().Round(0), Kind: kind, Text: text + s.clean(face.Kind), PID: face.PID})
	}
	s.notify()
}

func (s *Session) left(face *api.Face) {
	sh := &s.showing
	sh.mu.Lock()
	sh.faces = slices.DeleteFunc(sh.faces, func(f *api.Face) bool { return f == face })
	alone := len(sh.faces) == 0 && !sh.background
	sh.mu.Unlock()
	s.tellFace(api.FactFaceLeft, "a face has left: ", *face)
	if alone && s.deserted != nil {
		s.deserted()
	}
}

// actions are how what is asked for is asked of the engine: of units, and without any.
var actions = map[api.Action]struct{ ofUnits, ofAll engine.Request }{
	api.Start:        {ofUnits: engine.StartUnit},
	api.Restart:      {engine.RestartUnit, engine.RestartAll},
	api.SetUp:        {ofUnits: engine.SetUpUnit},
	api.Stop:         {ofUnits: engine.StopUnit},
	api.Pause:        {engine.PauseUnit, engine.PauseAll},
	api.Resume:       {engine.ResumeUnit, engine.ResumeAll},
	api.KeepIgnoring: {ofUnits: engine.KeepIgnoring},
	api.ReactAgain:   {ofUnits: engine.ReactAgain},
	api.End:          {ofAll: engine.Quit},
	api.EndNow:       {ofAll: engine.QuitNow},
}

// RequestFor returns how an action is asked of the engine, of units or without any; empty
// where that makes no sense.
func RequestFor(a api.Action, ofUnits bool) engine.Request {
	if ofUnits {
		return actions[a].ofUnits
	}
	return actions[a].ofAll
}

// Do implements api.Project.
func (s *Session) Do(ctx context.Context, r api.Request) (api.Answer, error) {
	units, err := s.named(r.Units)
	if err != nil {
		return api.Answer{}, err
	}
	switch r.Action {
	case api.LeaveRunning:
		s.showing.mu.Lock()
		s.showing.background = true
		s.showing.mu.Unlock()
		s.notify()
		return api.Answer{}, nil
	case api.WriteCure:
		return api.Answer{}, s.writeCures(units)
	}
	request := RequestFor(r.Action, len(units) > 0)
	switch _, known := actions[r.Action]; {
	case !known:
		return api.Answer{}, api.Refuse("nothing is known of %q", r.Action)
	case request == "" && len(units) == 0:
		return api.Answer{}, api.Refuse("%s needs the names of units", r.Action)
	case request == "":
		return api.Answer{}, api.Refuse("%s is for the whole project, not for units", r.Action)
	}
	return s.ask(ctx, request, units)
}

// named returns the units that names of units and groups stand for, each once.
func (s *Session) named(names []string) ([]string, error) {
	p := s.Plan()
	var units []string
	for _, name := range names {
		members := p.Members(name)
		if members == nil {
			hint := ""
			if near := p.Suggest(name); near != "" {
				hint = "; did you mean " + near + "?"
			}
			return nil, api.Refuse("there is no unit or group %s%s", s.clean(name), hint)
		}
		for _, m := range members {
			if !slices.Contains(units, m) {
				units = append(units, m)
			}
		}
	}
	return units, nil
}

// ask asks the engine and waits for its answer.
func (s *Session) ask(ctx context.Context, r engine.Request, units []string) (api.Answer, error) {
	answered := make(chan engine.Answer, 1)
	s.mu.Lock()
	s.asked++
	id := s.asked
	s.answers[id] = answered
	s.mu.Unlock()
	defer func() {
		s.mu.Lock()
		delete(s.answers, id)
		s.mu.Unlock()
	}()
	s.send(engine.Requested{ID: id, Request: r, Units: units})
	select {
	case a := <-answered:
		if a.Refusal != "" {
			return api.Answer{}, api.Refuse("%s", s.clean(a.Refusal))
		}
		return api.Answer{Ripple: a.Ripple}, nil
	case <-s.done:
		return api.Answer{}, api.Refuse("the project has ended")
	case <-ctx.Done():
		return api.Answer{}, ctx.Err()
	}
}

// answer hands on what the engine says to a request.
func (s *Session) answer(a engine.Answer) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if c := s.answers[a.ID]; c != nil {
		c <- a
	}
}

// Request asks for something and does not wait for the answer. It returns when the loop
// has room to hear of it.
func (s *Session) Request(r engine.Request, units ...string) {
	s.send(engine.Requested{Request: r, Units: units})
}

// Lines implements api.Project.
func (s *Session) Lines(_ context.Context, q api.LineQuery) (api.Page, error) { return Read(s.book, q) }

// Read returns a part of a log.
func Read(book Book, q api.LineQuery) (api.Page, error) {
	if q.Count <= 0 {
		q.Count = api.DefaultLines
	}
	q.Count = min(q.Count, api.MostLines)
	unit := q.Unit
	if unit == "" {
		unit = logbook.All
	}
	page := api.Page{Total: book.Len(unit)}
	if q.Run > 0 {
		return linesOfRun(book, page, q)
	}
	end, backwards, err := endOf(book, unit, page.Total, q)
	switch {
	case err != nil:
	case backwards && q.Fold:
		err = fold(book, unit, &page, end, q.Count)
	case backwards:
		err = window(book, unit, &page, end-int64(q.Count), end)
	default:
		from := q.From
		if !q.Since.IsZero() {
			from, err = book.Position(unit, q.Since)
		}
		if err == nil {
			err = window(book, unit, &page, from, from+int64(q.Count))
		}
	}
	return page, err
}

// endOf returns the position before which lines are asked for, if they are.
func endOf(book Book, unit string, total int64, q api.LineQuery) (end int64, backwards bool, err error) {
	switch {
	case q.Last:
		return total, true, nil
	case q.End > 0:
		return min(q.End, total), true, nil
	case !q.Until.IsZero():
		end, err = book.Position(unit, q.Until)
		return end, true, err
	}
	return 0, false, nil
}

// window puts the lines between two positions into a page.
func window(book Book, unit string, page *api.Page, from, end int64) error {
	page.From = max(from, 0)
	lines, err := book.Window(unit, page.From, int(max(end-page.From, 0)))
	page.Lines, page.End = linesOf(lines), page.From+int64(len(lines))
	return err
}

// fold puts the last lines before a position into a page, as many that differ from the one
// before as are asked for, if they are not too far back.
func fold(book Book, unit string, page *api.Page, end int64, count int) error {
	const furthest = 64
	page.From, page.End = end, end
	for page.From > 0 && len(page.Lines) < count && end-page.From < int64(furthest*count) {
		from := max(page.From-int64(max(count, api.DefaultLines)), 0)
		lines, err := book.Window(unit, from, int(page.From-from))
		if err != nil {
			return err
		}
		page.Lines, page.From = folded(append(linesOf(lines), page.Lines...)), from
	}
	return nil
}

// folded joins lines that say the same thing again.
func folded(lines []api.Line) []api.Line {
	out := lines[:0]
	for _, l := range lines {
		if n := len(out); n > 0 && l.Stream == api.Output && l.Text != "" {
			if last := &out[n-1]; last.Stream == api.Output && last.Unit == l.Unit && last.Text == l.Text {
				last.Times = max(last.Times, 1) + max(l.Times, 1)
				continue
			}
		}
		out = append(out, l)
	}
	return out
}

// linesOfRun returns lines of one run: the last ones, or those that say why it ended.
func linesOfRun(book Book, page api.Page, q api.LineQuery) (api.Page, error) {
	if q.Unit == "" {
		return page, api.Refuse("a run is one of a unit: which one?")
	}
	if q.Why {
		lines, err := book.LastWords(q.Unit, q.Run, q.Count)
		page.Lines = linesOf(lines)
		return page, err
	}
	const step = 1000
	var found []logbook.Line
	for end := page.Total; end > 0 && len(found) < q.Count; end -= step {
		from := max(end-step, 0)
		lines, err := book.Window(q.Unit, from, int(end-from))
		if err != nil {
			return page, err
		}
		older := len(lines) > 0 && lines[0].Run < q.Run
		lines = slices.DeleteFunc(lines, func(l logbook.Line) bool { return l.Run != q.Run })
		if found = append(lines, found...); older {
			break
		}
	}
	page.Lines = linesOf(found[max(len(found)-q.Count, 0):])
	return page, nil
}

// waiter is somebody who waits until all has come to rest.
type waiter struct {
	units []string // none: all
	heard bool     // what had been written when it began to wait is known
	rest  chan *engine.Snapshot
}

// Wait implements api.Project.
func (s *Session) Wait(ctx context.Context, q api.WaitQuery) (api.Waited, error) {
	units, err := s.named(q.Units)
	if err != nil {
		return api.Waited{}, err
	}
	began := time.Now()
	w := &waiter{units: units, rest: make(chan *engine.Snapshot, 1)}
	s.mu.Lock()
	s.waits++
	number := s.waits
	s.waiters[number] = w
	s.mu.Unlock()
	defer func() {
		s.mu.Lock()
		delete(s.waiters, number)
		s.mu.Unlock()
	}()
	s.watcher.CatchUp(number)
	var timeout <-chan time.Time
	if q.Timeout > 0 {
		timer := time.NewTimer(q.Timeout.Duration())
		defer timer.Stop()
		timeout = timer.C
	}
	select {
	case snap := <-w.rest:
		return s.waited(snap, units, began, false), nil
	case <-timeout:
		return s.waited(s.state(), units, began, true), nil
	case <-s.done:
		return api.Waited{}, api.Refuse("the project has ended")
	case <-ctx.Done():
		return api.Waited{}, ctx.Err()
	}
}

// caughtUp notes that the engine knows what a waiter waits for.
func (s *Session) caughtUp(number int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if w := s.waiters[number]; w != nil {
		w.heard = true
	}
}

// release lets those go whose units have come to rest.
func (s *Session) release(snap *engine.Snapshot) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.first != nil { // it has not begun
		return
	}
	for number, w := range s.waiters {
		if w.heard && atRest(snap, w.units) {
			w.rest <- snap
			delete(s.waiters, number)
		}
	}
}

// atRest reports whether units, or all, will not move by themselves any more. A pause
// before a retry is a movement.
func atRest(snap *engine.Snapshot, units []string) bool {
	if snap.Verdict.Word == engine.VerdictUpdating && len(units) == 0 {
		return false
	}
	for _, u := range snap.Units {
		if len(units) > 0 && !slices.Contains(units, u.Name) {
			continue
		}
		if u.Moving || u.State == engine.Crashed && !u.RetryAt.IsZero() {
			return false
		}
	}
	return !snap.SettingsPending
}

// waited tells how things stand.
func (s *Session) waited(snap *engine.Snapshot, units []string, began time.Time, timedOut bool) api.Waited {
	out := api.Waited{TimedOut: timedOut, Took: api.Seconds(time.Since(began))}
	out.Verdict = api.Verdict{Word: verdictWord(snap), Text: s.clean(snap.Verdict.Text)}
	var broken, stale []api.WaitedUnit
	for _, u := range snap.Units {
		among := slices.Contains(units, u.Name)
		if len(units) > 0 && !among || u.Freshness == engine.Current || len(units) == 0 && !u.Wanted && !u.State.Broken() {
			continue
		}
		one := s.waitedUnit(u)
		if u.State.Broken() {
			broken = append(broken, one)
		} else {
			stale = append(stale, one)
		}
	}
	out.Trouble = slices.Concat(broken, stale)
	out.OK = !timedOut && len(out.Trouble) == 0 && (len(units) > 0 || snap.Verdict.Word == engine.VerdictCurrent)
	return out
}

func (s *Session) waitedUnit(u *engine.Unit) api.WaitedUnit {
	one := api.WaitedUnit{Unit: u.Name, State: api.State(u.State.String()), Freshness: api.Freshness(u.Freshness.String()), Run: u.Run.Number, Why: s.clean(u.Why)}
	if !u.State.Broken() {
		return one
	}
	if one.Why = s.clean(u.Run.Problem); one.Why == "" {
		one.Why = u.Run.Exit.String()
	}
	if says, ok := s.book.Reason(u.Name, u.Run.Number); ok {
		l := line(says)
		one.Line = &l
	}
	return one
}
