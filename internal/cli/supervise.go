package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"omnivigil/internal/api"
	"omnivigil/internal/demo"
	"omnivigil/internal/engine"
	"omnivigil/internal/guard"
	"omnivigil/internal/logbook"
	"omnivigil/internal/plan"
	"omnivigil/internal/session"
	"omnivigil/internal/trust"
)

// supervision is what a supervisor is told to do. It goes from the face that launches it
// to the supervisor as words on the command line.
type supervision struct {
	file       string
	units      []string
	agreed     string // fingerprint of what the person has agreed to run
	background bool
	record     string
	remove     string        // a folder that is to go afterwards
	autopilot  time.Duration // how often the demo is edited; 0 is never
	demo       bool
}

// words is the supervision as a command line.
func (o supervision) words() []string {
	words := []string{"supervise", "--file", o.file, "--agreed", o.agreed}
	if o.background {
		words = append(words, "--background")
	}
	if o.demo {
		words = append(words, "--demo")
	}
	if o.record != "" {
		words = append(words, "--record", o.record)
	}
	if o.remove != "" {
		words = append(words, "--remove", o.remove)
	}
	if o.autopilot > 0 {
		words = append(words, "--autopilot", o.autopilot.String())
	}
	return append(append(words, "--"), o.units...)
}

// superviseCommand is run by faces, never by people.
func superviseCommand(at *location) *cobra.Command {
	var o supervision
	c := &cobra.Command{
		Use:    "supervise",
		Hidden: true,
		RunE: func(_ *cobra.Command, units []string) error {
			o.file, o.units = at.file, units
			switch guard.Which() {
			case guard.WardenPart:
				return ward(o)
			case guard.SupervisorPart:
				return supervise(o)
			}
			return refuse("omnivigil: a supervisor is started by omnivigil start")
		},
	}
	c.Flags().StringVar(&o.agreed, "agreed", "", "")
	c.Flags().BoolVar(&o.background, "background", false, "")
	c.Flags().BoolVar(&o.demo, "demo", false, "")
	c.Flags().StringVar(&o.record, "record", "", "")
	c.Flags().StringVar(&o.remove, "remove", "", "")
	c.Flags().DurationVar(&o.autopilot, "autopilot", 0, "")
	return c
}

// keeperCommand puts a terminal back; see guard.Keep.
func keeperCommand() *cobra.Command {
	return &cobra.Command{Use: guard.KeeperCommand, Hidden: true, Run: func(*cobra.Command, []string) { guard.Restore() }}
}

// exitLocked is the code by which a warden says that the project runs already.
const exitLocked = 75 // EX_TEMPFAIL of sysexits.h

// ward is the warden's part.
func ward(o supervision) error {
	at, err := placeOf(o.file)
	if err != nil {
		return failStart(exitFailed, err)
	}
	lock, err := at.TryLock()
	switch {
	case errors.Is(err, api.ErrLocked):
		return failStart(exitLocked, err)
	case err != nil:
		return failStart(exitFailed, err)
	}
	if err := guard.Ward(lock); err != nil {
		return failStart(exitFailed, err)
	}
	return nil
}

// failStart tells the launcher why there is no start.
func failStart(code int, err error) error {
	guard.Failed(code, err.Error())
	return outcome{code, ""}
}

// supervise is the supervisor's part: it runs the project until that has ended.
func supervise(o supervision) error {
	self, err := guard.Enter()
	if err != nil {
		return failStart(exitFailed, err)
	}
	p, err := plan.Read(o.file)
	if err != nil {
		return failStart(exitUsage, err)
	}
	if trust.Fingerprint(p) != o.agreed {
		return failStart(exitUsage, errors.New("the settings have changed since you agreed to them; nothing was started. Start again"))
	}
	if o.remove != "" {
		self.RemoveAfterwards(o.remove)
	}
	r, err := open(self, p, o)
	if err != nil {
		return failStart(exitFailed, err)
	}
	guard.Started(r.logs)
	r.attend(self, o)
	return nil
}

// running is a project that runs in this process.
type running struct {
	session *session.Session
	server  *api.Server
	socket  net.Listener
	book    *logbook.Book
	logs    string
	records *os.File // nil where nothing is recorded
}

// open starts the project and what faces it.
func open(self *guard.Supervisor, p *plan.Plan, o supervision) (*running, error) {
	at, err := placeOf(p.File)
	if err != nil {
		return nil, err
	}
	r := &running{logs: session.LogFolder(stateDir(), p, time.Now())}
	config := session.Config{Plan: p, Units: o.units, Logs: r.logs, State: stateDir(), Background: o.background, Warden: self.Warden}
	if o.record != "" {
		if r.records, err = os.OpenFile(o.record, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600); err != nil {
			return nil, fmt.Errorf("make the recording: %w", err)
		}
		config.Record = r.records
	}
	if r.socket, err = at.Listen(); err != nil {
		return nil, err
	}
	r.book = logbook.Open(r.logs)
	config.Book = r.book
	crash := self.CatchCrash(filepath.Join(r.logs, crashName))
	if !o.demo {
		config.Adopted = func(p *plan.Plan) { go trust.In(stateDir()).Add(p) }
	}
	config.Deserted = func() { go quitSoon(r.session) }
	if r.session, err = session.Start(config); err != nil {
		r.book.Close()
		r.socket.Close()
		return nil, err
	}
	if crash != nil {
		r.session.Note("a crash of Omnivigil would leave no report: " + crash.Error())
	}
	r.server = api.NewServer(r.session, filepath.Base(r.logs))
	go r.server.Serve(r.socket)
	return r, nil
}

// crashName is the report of a crash, in the folder of the log.
const crashName = "crash.txt"

// attend does what happens to the supervisor, until the project has ended and its faces
// have seen that.
func (r *running) attend(self *guard.Supervisor, o supervision) {
	s := r.session
	if !o.background {
		leave := s.Enter(api.Face{}) // whoever has launched it, until it comes as a face
		go func() {
			<-self.LauncherGone()
			leave()
		}()
	}
	go func() {
		<-self.WardenGone()
		quitSoon(s)
	}()
	go quitOnSignal(s)
	if o.demo {
		go attendDemo(s, filepath.Dir(o.file), o.autopilot)
	}
	<-s.Done()
	r.linger()
	r.server.Close()
	os.Remove(r.socket.Addr().String())
	guard.EndAll()
	r.book.Close()
	if r.records != nil {
		r.records.Close()
	}
}

// linger waits until every face has seen the end, but not for ever: one that is suspended
// does not keep the project from going. A stream of lines may be read slowly.
func (r *running) linger() {
	const look, screens, streams = 5 * time.Millisecond, time.Second, time.Minute
	for began := time.Now(); ; time.Sleep(look) {
		snap, _ := r.session.Snapshot(context.Background())
		limit := screens
		if slices.ContainsFunc(snap.Faces, func(f api.Face) bool { return f.Kind == "plain" }) {
			limit = streams
		}
		if len(snap.Faces) == 0 || time.Since(began) > limit {
			return
		}
	}
}

// quitSoon ends everything in order, but within the grace that there is when nobody is left
// who could ask for more.
func quitSoon(s *session.Session) {
	s.Request(engine.Quit)
	select {
	case <-s.Done():
	case <-time.After(guard.Grace):
		s.Request(engine.QuitNow)
	}
}

// quitOnSignal turns the first signal to end into quitting in order and the second into
// quitting at once.
func quitOnSignal(s *session.Session) {
	signals := make(chan os.Signal, 2)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	request := engine.Quit
	for range signals {
		s.Request(request)
		request = engine.QuitNow
	}
}

// attendDemo edits the demo's files, if that was asked for, until the session is over.
func attendDemo(s *session.Session, folder string, pause time.Duration) {
	s.Note("the demo lives in " + folder + ": edit its files and see what follows")
	if pause == 0 {
		return
	}
	ctx, stop := context.WithCancel(context.Background())
	go func() {
		<-s.Done()
		stop()
	}()
	demo.Autopilot(ctx, folder, pause, s.Note)
}
