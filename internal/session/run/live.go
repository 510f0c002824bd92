package run

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/engine"
	"omnivigil/internal/engine/explain"
	"omnivigil/internal/output/logbook"
	"omnivigil/internal/output/terminal"
	"omnivigil/internal/plan"
	"omnivigil/internal/process"
	"omnivigil/internal/process/observe"
	"omnivigil/internal/process/probe"
	"omnivigil/internal/store/reuse"
	"omnivigil/internal/text/escape"
)

// Live is a run from its order to its end. Each of its parts has its own lock; the rest is set when the run is
// created, or handed from one of its goroutines to the next.
type Live struct {
	Unit     *plan.Unit
	Number   int
	Began    time.Time
	Terminal *terminal.Terminal

	project *Project
	ripple  atomic.Int64 // that caused what it does now

	inOrder   serial
	processes processes
	lifetime
	hearing
	observed
	result
}

// processes are the processes that a run has started.
type processes struct {
	mu      sync.Mutex
	current Process          // the run's own, or that of the current step
	stopped bool             // it has been signalled
	helpers map[Process]bool // additional commands, such as a readiness probe
}

// lifetime is the progress of a run.
type lifetime struct {
	// cancelled is done when the run is told to stop while it waits for another unit's step.
	cancelled context.Context
	cancel    func()

	proceed   chan struct{}   // the announced step may begin
	announced chan struct{}   // closed when the engine knows of the process
	over      context.Context // done when the process is gone
	ended     func()
}

// observed is the observation of a run.
type observed struct {
	log       *observe.Log // nil: it is not observed
	requested bool         // by a user, so that the unit has to run
}

// result is what a successful run leaves.
type result struct {
	attempt *reuse.Attempt // for a reusable result; nil: none
	begun   *reuse.Attempt // of a task whose results are reused; nil: none
	told    []byte         // what its output meant, at its end
	narrow  string         // the cases that it is narrowed to; empty: all
}

// hearing turns bytes into lines. Its lock guards all of it.
type hearing struct {
	reading  sync.Mutex
	scanner  logbook.Scanner
	line     *regexp.Regexp // the ready line, until it was seen; nil: none
	passes   passWatch
	tracking reading
	quiet    *time.Timer // fires when nothing has been written for a moment
	pauses   int         // how often that was too early
	rested   bool        // nothing has been written for longer
	asked    bool        // it waits for input
	drawn    bool        // it was reported that a full screen is drawn
}

// New returns a run that has not started.
func New(p *Project, u *plan.Unit, number, ripple int) *Live {
	r := &Live{
		project:   p,
		Unit:      u,
		Number:    number,
		Began:     time.Now(),
		processes: processes{helpers: map[Process]bool{}},
	}
	r.proceed, r.announced = make(chan struct{}, 1), make(chan struct{})
	r.ripple.Store(int64(ripple))
	r.cancelled, r.cancel = context.WithCancel(context.Background())
	r.over, r.ended = context.WithCancel(context.Background())
	r.scanner = r.newScanner()
	p.Attach(r)
	return r
}

// newScanner returns a scanner that masks the project's secrets.
func (r *Live) newScanner() logbook.Scanner {
	return logbook.Scanner{
		Hide:    func(text string) string { return r.project.Hidden().String(text) },
		MayHide: func(text []byte) bool { return r.project.Hidden().MayChange(text) },
		Hold:    r.project.Hidden().Longest(),
		Leads:   func(address string) bool { return leadsTo(address, r.project.Root) },
	}
}

// leadsTo reports whether a link in output may lead to an address: to a web page or a file of the project. A terminal
// opens what is clicked with any program of the system.
func leadsTo(address, root string) bool {
	u, err := url.Parse(address)
	switch {
	case err != nil:
		return false
	case u.Scheme != "file":
		return true // a web page, or the end of a link
	}
	below, err := filepath.Rel(root, filepath.Clean(u.Path))
	return err == nil && filepath.IsLocal(below)
}

// spec is the specification for spawning a command of the run.
func (r *Live) spec(c plan.Command) process.Spec {
	return process.Spec{
		Name: r.Unit.Name, Argv: c.Argv(), Dir: r.Unit.Dir,
		Env:  append(r.environment(), r.project.Marks...),
		Cols: r.Terminal.Size().Cols, Rows: r.Terminal.Size().Rows,
		Output: func(p []byte) { r.output(p) },
	}
}

// have sets the process that signals go to. If the run was to be stopped before, the process is stopped at once.
func (r *Live) have(p Process) {
	r.processes.mu.Lock()
	r.processes.current = p
	stopped := r.processes.stopped
	r.processes.mu.Unlock()
	if stopped {
		p.Signal(r.Unit.Stop.Signal)
	}
}

// Process is the run's own process; nil before there is one.
func (r *Live) Process() Process {
	r.processes.mu.Lock()
	defer r.processes.mu.Unlock()
	return r.processes.current
}

func (r *Live) isStopped() bool {
	r.processes.mu.Lock()
	defer r.processes.mu.Unlock()
	return r.processes.stopped
}

func (r *Live) Entry(s logbook.Stream) logbook.Entry {
	return logbook.Entry{Unit: r.Unit.Name, Run: r.Number, Ripple: int(r.ripple.Load()), Stream: s}
}

// PromptPause is how long a line without an end must stay unchanged to be shown.
const PromptPause = 300 * time.Millisecond

// maxPauses is how often in a row that is extended while the process is running.
const maxPauses = 10

func (r *Live) output(p []byte) {
	r.project.Wrote(r.Unit.Name, len(p))
	r.reading.Lock()
	defer r.reading.Unlock()
	after := r.after(p)
	r.Terminal.Write(p, func(p []byte) { r.read(after, p) }, func(begins bool) { r.draws(begins) })
	r.rested = false
	if r.asked && (r.Terminal.Drawing() || bytes.IndexByte(p, '\n') >= 0) {
		r.asked = false
		r.project.Asks(r, api.Ask{})
	}
	if r.quiet == nil {
		r.quiet = time.AfterFunc(PromptPause, func() { r.pause() })
	} else {
		r.quiet.Reset(PromptPause)
	}
}

// read handles output in lines.
func (r *Live) read(after time.Time, p []byte) {
	if r.passes.reader != nil || r.line != nil {
		r.say(after, r.scanner.Scan(p))
		return
	}
	lines, block, bare := r.scanner.ScanBlock(p)
	r.say(after, lines)
	r.sayBlock(block, bare)
}

// draws reports that a program has started to draw the whole screen: that is not output.
func (r *Live) draws(begins bool) {
	if begins && !r.drawn {
		r.drawn = true
		r.project.Note(r.Entry(logbook.Note), "draws a full screen, which is not part of the output")
	}
}

// pause shows an unfinished line, and checks whether the run waits for input.
func (r *Live) pause() {
	r.reading.Lock()
	defer r.reading.Unlock()
	// A busy machine can delay a process for as long in the middle of a line.
	if p := r.Process(); p != nil && r.scanner.Unended() && r.pauses < maxPauses && (!p.AllRead() || p.Working()) {
		r.pauses++
		r.quiet.Reset(PromptPause)
		return
	}
	r.pauses = 0
	lines := r.scanner.Pause(r.project.Hidden().Dangling)
	r.write(lines, nil, r.scanner.Continues())
	for _, line := range lines { // its meaning is known when it has ended
		r.tracking.unended += escape.Strip(line)
	}
	r.seeReady(lines)
	r.seeAsk(r.rested)
	if !r.rested && r.Terminal.Drawing() {
		r.rested = true
		r.quiet.Reset(screenRest)
	}
}

// rest shows the unfinished line that the process has left.
func (r *Live) rest() {
	r.reading.Lock()
	defer r.reading.Unlock()
	if r.quiet != nil {
		r.quiet.Stop()
	}
	lines := r.scanner.Rest()
	if len(lines) == 0 && r.tracking.unended != "" {
		r.mean([]string{r.tracking.unended}, make([]logbook.Tone, 1))
	}
	r.say(r.passes.begun, lines)
}

// write writes lines with their tones; nil: none has one. GoesOn: the first line continues what was shown of it.
func (r *Live) write(lines []string, tones []logbook.Tone, goesOn bool) {
	for i := 0; i < len(lines); {
		e, n := r.Entry(logbook.Output), i+1
		if e.Continues = i == 0 && goesOn; tones != nil {
			e.Tone = tones[i]
		}
		for n < len(lines) && !e.Continues && (tones == nil || tones[n] == e.Tone) {
			n++
		}
		r.project.Book.Append(e, lines[i:n]...)
		i = n
	}
}

// say shows lines that were written after a time, and reads their meaning.
func (r *Live) say(after time.Time, lines []string) {
	if len(lines) == 0 {
		return
	}
	var tones []logbook.Tone
	if r.tracking.reader != nil || r.passes.reader != nil {
		tones = r.understand(after, lines)
	}
	r.write(lines, tones, r.scanner.Continues())
	r.seeReady(lines)
}

// sayBlock shows lines that need no change. Bare is the block without colors. Of a process that writes without end,
// lines without locations and test results are not read one by one.
func (r *Live) sayBlock(block, bare []byte) {
	switch {
	case len(block) == 0:
	case r.skip(bare):
		r.project.Book.AppendBlock(r.Entry(logbook.Output), block)
	default:
		lines := strings.Split(strings.TrimSuffix(string(block), "\n"), "\n")
		for i := range lines {
			lines[i] = strings.TrimRight(lines[i], "\r")
		}
		tones := r.understand(time.Time{}, lines)
		if !slices.ContainsFunc(tones, func(t logbook.Tone) bool { return t != logbook.Neutral }) {
			r.project.Book.AppendBlock(r.Entry(logbook.Output), block)
			return
		}
		r.write(lines, tones, false)
	}
}

// understand reads the meaning of lines in order: passes, cases and findings.
func (r *Live) understand(after time.Time, lines []string) []logbook.Tone {
	plain, tones := make([]string, len(lines)), make([]logbook.Tone, len(lines))
	for i, line := range lines {
		plain[i] = escape.Strip(line)
	}
	if r.scanner.Continues() {
		plain[0] = r.tracking.unended + plain[0]
	}
	r.tracking.unended = ""
	if r.passes.reader == nil {
		r.mean(plain, tones)
		return tones
	}
	for i := range plain {
		r.mean(plain[i:i+1], tones[i:i+1])
		r.readPasses(after, plain[i], plain[i+1:])
	}
	return tones
}

// seeReady checks for the line that makes the unit ready.
func (r *Live) seeReady(lines []string) {
	if r.line == nil {
		return
	}
	for _, l := range lines {
		if r.line.MatchString(escape.Strip(l)) {
			r.line = nil
			go func() {
				<-r.announced // the engine must know the process first
				r.project.Send(engine.BecameReady{Unit: r.Unit.Name, Run: r.Number})
			}()
			return
		}
	}
}

func (r *Live) exited(x process.Exit) {
	r.ended()
	r.endHelpers()
	r.rest()
	r.project.Asks(r, api.Ask{})
	<-r.announced
	end := engine.Exited{Unit: r.Unit.Name, Run: r.Number, Exit: engine.Exit(x)}
	r.noteMade()
	if failed := r.meant(engine.Exit(x)); engine.Exit(x).OK() && !failed {
		r.remember()
		if len(r.Unit.Outputs) > 0 {
			end.Oldest = r.project.Made(r.Unit, r.Number)
		}
	} else if len(r.Unit.Outputs) > 0 {
		r.project.Left(r.Unit)
	}
	if r.log != nil {
		r.project.Ended(r.Unit)
	}
	if r.Unit.ComparesTimes {
		end.Newest = r.project.Newest(r.Unit)
	}
	r.project.Send(end)
	if engine.Exit(x).OK() {
		r.keep()
	}
}

// IsOver reports whether the run's process is gone.
func (r *Live) IsOver() bool { return r.over.Err() != nil }

// Stop ends the run: by the signal, or as its settings say. It does not block.
func (r *Live) Stop(name string) {
	r.processes.mu.Lock()
	r.processes.stopped = true
	r.cancel()
	p := r.processes.current
	r.processes.mu.Unlock()
	switch {
	case p == nil:
	case r.Unit.Stop.Run != nil && name == r.Unit.Stop.Signal:
		go r.runStop()
	case r.Unit.Stop.Type != "" && name == r.Unit.Stop.Signal:
		go func() { r.Complain(p.TypeEnd(r.Unit.Stop.Type)) }()
	default:
		r.inOrder.do(func() { r.Complain(p.Signal(name)) })
	}
}

// mayStopWithin is how soon a run must be stopped after a write to be prepared for that: later it does not matter.
const mayStopWithin = 2 * time.Millisecond

// MayStop prepares the run to be stopped at once because one of its files was written. It does not block.
func (r *Live) MayStop() {
	if p := r.Process(); p != nil && r.Unit.Debounce < mayStopWithin {
		go p.LookAhead()
	}
}

// Reload sends a signal that should not end the run. It does not block.
func (r *Live) Reload(name string) {
	if p := r.Process(); p != nil {
		r.inOrder.do(func() { r.Complain(p.SignalLeader(name)) })
	}
}

func (r *Live) Complain(err error) {
	if err != nil {
		r.project.Note(r.Entry(logbook.Note), "could not be signalled: "+err.Error())
	}
}

// runStop runs the command that ends the unit, instead of a signal.
func (r *Live) runStop() {
	ctx, stop := context.WithTimeout(context.Background(), r.Unit.Stop.Grace)
	defer stop()
	if err := r.command(ctx, *r.Unit.Stop.Run); err != nil {
		text := fmt.Sprintf("could not be stopped by %q: %v", r.Unit.Stop.Run, err)
		r.project.Note(r.Entry(logbook.Note), text)
	}
}

// probe checks until the service answers or the run is over, and then at intervals, if the settings say so.
func (r *Live) probe(prober *probe.Prober) {
	if prober == nil {
		return
	}
	prober.Run = func(ctx context.Context, c plan.Command) error { return r.command(ctx, c) }
	saw := func(text string) { r.project.Send(engine.Probed{Unit: r.Unit.Name, Run: r.Number, Saw: text}) }
	prober.Listens = r.project.Spawner.Listens
	if !prober.Wait(r.over, saw) {
		return
	}
	r.project.Send(engine.BecameReady{Unit: r.Unit.Name, Run: r.Number})
	if r.Unit.Health > 0 {
		prober.Repeat(r.over, r.Unit.Health, func(problem string) {
			r.project.Send(engine.Checked{Unit: r.Unit.Name, Run: r.Number, Problem: problem})
		})
	}
}

// command runs an additional command as part of the run: it has the run's marks, is followed and ends with the run.
// It blocks until the command and all its descendants are gone; the error tells how it failed, with its last line.
func (r *Live) command(ctx context.Context, c plan.Command) error {
	last := tail{}
	exited := make(chan process.Exit, 1)
	spec := r.spec(c)
	spec.Terminal = process.NoTerminal
	spec.Output = last.add
	spec.Exited = func(x process.Exit) { exited <- x }
	p, err := r.project.Spawner.Start(spec)
	if err != nil {
		return err
	}
	r.processes.mu.Lock()
	r.processes.helpers[p] = true
	r.processes.mu.Unlock()
	defer func() {
		r.processes.mu.Lock()
		delete(r.processes.helpers, p)
		r.processes.mu.Unlock()
	}()
	var x engine.Exit
	select {
	case end := <-exited:
		x = engine.Exit(end)
	case <-ctx.Done():
		p.Signal("KILL")
		<-exited
		return last.err("it took too long")
	}
	if x.OK() {
		return nil
	}
	return last.err(explain.Exit(x))
}

// endHelpers ends the additional commands.
func (r *Live) endHelpers() {
	r.processes.mu.Lock()
	helpers := slices.Collect(maps.Keys(r.processes.helpers))
	r.processes.mu.Unlock()
	for _, p := range helpers {
		p.Signal("KILL")
	}
}

// tail keeps the end of a command's output.
type tail struct{ text []byte }

const maxTail = 4 << 10

func (t *tail) add(p []byte) {
	t.text = append(t.text, p...)
	if over := len(t.text) - maxTail; over > 0 {
		t.text = append(t.text[:0], t.text[over:]...)
	}
}

// err returns an error that tells how a command failed, with its last line.
func (t *tail) err(how string) error {
	lines := strings.Split(strings.TrimSpace(string(t.text)), "\n")
	if last := strings.TrimSpace(escape.Strip(lines[len(lines)-1])); last != "" {
		return errors.New(how + ": " + escape.Text(last))
	}
	return errors.New(how)
}

// Start starts the run. What may block is done in the run's own order, so that a signal waits for no lock of the
// system; steps before the command take their time, so they have their own goroutine and do not delay a signal. It
// does not block.
func (r *Live) Start(o engine.Start) {
	r.inOrder.do(func() {
		r.trackResults(o)
		r.log, r.requested = r.project.Observe(r.Unit, r.Number)
		if len(r.Unit.Setup)+len(r.Unit.Prelude) > 0 || r.Unit.Reuse {
			go r.prepare(o)
		} else {
			r.spawn(o)
		}
	})
}

// Proceed lets the announced step begin. It does not block.
func (r *Live) Proceed() {
	select {
	case r.proceed <- struct{}{}:
	default: // it was told to proceed before
	}
}

// BelongsTo sets the ripple that caused what the run does now.
func (r *Live) BelongsTo(ripple int) { r.ripple.Store(int64(ripple)) }
