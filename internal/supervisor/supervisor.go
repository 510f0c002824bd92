// Package supervisor is the process that runs a project without a terminal: it opens the log and the socket, starts a
// session, and ends with it. Package guard pairs it with a watchdog. Start reading at Command.
package supervisor

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
	"omnivigil/internal/api/exit"
	"omnivigil/internal/api/server"
	"omnivigil/internal/api/socket"
	"omnivigil/internal/api/yield"
	"omnivigil/internal/demo"
	"omnivigil/internal/engine"
	"omnivigil/internal/heap"
	"omnivigil/internal/output/logbook"
	"omnivigil/internal/plan"
	"omnivigil/internal/plan/preferences"
	"omnivigil/internal/plan/settings"
	"omnivigil/internal/session"
	"omnivigil/internal/session/impact"
	"omnivigil/internal/store/consent"
	"omnivigil/internal/store/contents"
	"omnivigil/internal/store/members"
	"omnivigil/internal/store/paths"
	"omnivigil/internal/store/share"
	"omnivigil/internal/supervisor/guard"
	"omnivigil/internal/supervisor/tracing"
)

// Options are what a supervisor should do. The face that launches it passes them as arguments on the command line.
type Options struct {
	File       string        // the settings
	Root       string        // the directory that they are for; empty: the file's own
	Units      []string      // what to start; none: all that start automatically
	Agreed     string        // the fingerprint that the user has agreed to
	For        []string      // run only what saves of these paths would set off
	Words      []string      // added to the commands of Units
	Apart      string        // distinguishes this project from another with the same settings; may be empty
	Once       bool          // changes are ignored
	Observe    bool          // everything is observed
	Background bool          // it keeps running without a face
	Record     string        // a file for a recording of the engine; empty: none
	Remove     string        // a directory to remove afterwards; may be empty
	Demo       bool          // what was agreed to is not stored
	Autopilot  time.Duration // the interval of the demo's edits; 0: none
}

// Place is where the started project meets its faces.
func (o Options) Place() (socket.Place, error) { return paths.Place(o.key()) }

// key identifies the project: its settings file, or a name in its directory.
func (o Options) key() string {
	if o.Apart == "" {
		return o.File
	}
	return o.File + "." + o.Apart
}

// Line returns the options as a command line.
func (o Options) Line() []string {
	words := []string{"supervise", "--file", o.File, "--agreed", o.Agreed}
	if o.Root != "" {
		words = append(words, "--root", o.Root)
	}
	for _, path := range o.For {
		words = append(words, "--for", path)
	}
	for _, word := range o.Words {
		words = append(words, "--word", word)
	}
	if o.Apart != "" {
		words = append(words, "--apart", o.Apart)
	}
	if o.Once {
		words = append(words, "--once")
	}
	if o.Observe {
		words = append(words, "--observe")
	}
	if o.Background {
		words = append(words, "--background")
	}
	if o.Demo {
		words = append(words, "--demo")
	}
	if o.Record != "" {
		words = append(words, "--record", o.Record)
	}
	if o.Remove != "" {
		words = append(words, "--remove", o.Remove)
	}
	if o.Autopilot > 0 {
		words = append(words, "--autopilot", o.Autopilot.String())
	}
	return append(append(words, "--"), o.Units...)
}

// Command is run by faces, never by people. The settings file is the one that file points to.
func Command(file *string) *cobra.Command {
	var o Options
	c := &cobra.Command{
		Use:    "supervise",
		Hidden: true,
		RunE: func(_ *cobra.Command, units []string) error {
			o.File, o.Units = *file, units
			switch guard.Which() {
			case guard.WatchdogPart:
				return ward(o)
			case guard.SupervisorPart:
				return supervise(o)
			}
			return exit.Refuse("omnivigil: a supervisor is started by omnivigil start")
		},
	}
	c.Flags().StringVar(&o.Root, "root", "", "")
	c.Flags().StringArrayVar(&o.For, "for", nil, "")
	c.Flags().StringArrayVar(&o.Words, "word", nil, "")
	c.Flags().StringVar(&o.Apart, "apart", "", "")
	c.Flags().BoolVar(&o.Once, "once", false, "")
	c.Flags().BoolVar(&o.Observe, "observe", false, "")
	c.Flags().StringVar(&o.Agreed, "agreed", "", "")
	c.Flags().BoolVar(&o.Background, "background", false, "")
	c.Flags().BoolVar(&o.Demo, "demo", false, "")
	c.Flags().StringVar(&o.Record, "record", "", "")
	c.Flags().StringVar(&o.Remove, "remove", "", "")
	c.Flags().DurationVar(&o.Autopilot, "autopilot", 0, "")
	return c
}

// ward is the watchdog's part.
func ward(o Options) error {
	at, err := o.Place()
	if err != nil {
		return failStart(exit.Failed, err)
	}
	lock, err := at.TryLock()
	switch {
	case errors.Is(err, socket.ErrLocked):
		return failStart(exit.Locked, err)
	case err != nil:
		return failStart(exit.Failed, err)
	}
	socket.SweepLocks(filepath.Dir(at.Lock))
	if err := guard.Ward(lock); err != nil {
		return failStart(exit.Failed, err)
	}
	return nil
}

// failStart tells the launcher why the start failed.
func failStart(code int, err error) error {
	guard.Failed(code, err.Error())
	return exit.Quietly(code)
}

// supervise is the supervisor's part: it runs the project until that has ended.
func supervise(o Options) error {
	heap.Keep()
	self, err := guard.Enter()
	if err != nil {
		return failStart(exit.Failed, err)
	}
	p, err := settings.ReadFor(o.File, o.Root)
	if err != nil {
		return failStart(exit.Usage, err)
	}
	if consent.Fingerprint(p) != o.Agreed {
		return failStart(
			exit.Usage,
			errors.New("the settings have changed since you agreed to them; nothing was started. Start again"),
		)
	}
	if o.Remove != "" {
		self.RemoveAfterwards(o.Remove)
	}
	r, err := open(self, p, o)
	if err != nil {
		return failStart(exit.Failed, err)
	}
	guard.Started(r.logs)
	r.attend(self, o)
	return nil
}

// running is a project in this process.
type running struct {
	session *session.Session
	server  *server.Server
	place   socket.Place
	socket  net.Listener
	book    *logbook.Book
	logs    string
	records *os.File // nil: nothing is recorded
}

// open starts the project and its server.
func open(self *guard.Supervisor, p *plan.Plan, o Options) (*running, error) {
	at, err := o.Place()
	if err != nil {
		return nil, err
	}
	r := &running{place: at, logs: filepath.Join(paths.Logs(p.File), time.Now().Format(logbook.SessionForm))}
	own, _ := preferences.Read(paths.Personal(), nil) // the faces report what is wrong with it
	config, problems := configOf(p, o, own)
	config.Logs, config.Watchdog = r.logs, self.Watchdog
	if own.Traces != "" {
		config.Traced = filepath.Base(r.logs)
	}
	if o.Record != "" {
		if r.records, err = os.OpenFile(o.Record, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600); err != nil {
			return nil, fmt.Errorf("make the recording: %w", err)
		}
		config.Record = r.records
	}
	if r.socket, err = at.Listen(); err != nil {
		return nil, err
	}
	r.book = logbook.Open(r.logs, logbook.Options{Width: widest(p), Limits: logbook.Limits(p.Logs)})
	config.Book = r.book
	if err := self.CatchCrash(filepath.Join(r.logs, CrashFile)); err != nil {
		problems = append(problems, fmt.Errorf("a crash of Omnivigil would leave no report: %w", err))
	}
	config.Deserted = func() { go quitSoon(r.session) }
	if r.session, err = session.Start(config); err != nil {
		r.book.Close()
		r.socket.Close()
		return nil, err
	}
	if err := members.Remember(paths.State(), p); err != nil {
		problems = append(problems, err)
	}
	for _, problem := range problems {
		r.session.Note(problem.Error())
	}
	r.server = server.NewServer(r.session, filepath.Base(r.logs))
	go r.server.Serve(r.socket)
	if own.Traces != "" {
		exporter := &tracing.Exporter{URL: own.Traces, Project: r.session, Note: r.session.Note}
		go exporter.Follow(context.Background())
	}
	return r, nil
}

// configOf returns the session's configuration as far as it depends on the options and on the user's own files, and
// what of it does not work: the project runs without.
func configOf(p *plan.Plan, o Options, own *preferences.Preferences) (c session.Config, problems []error) {
	c = session.Config{
		Plan:       p,
		Begin:      engine.Begin{Units: o.Units, Words: o.Words},
		Once:       o.Once,
		Observe:    o.Observe,
		Key:        o.key(),
		State:      paths.State(),
		Results:    paths.Results(p.File),
		History:    paths.History(p.File),
		Background: o.Background,
		Store:      contents.In(paths.Contents(), contents.Limits(own.Store)),
	}
	for _, path := range o.For {
		c.Begin.Hits = append(c.Begin.Hits, impact.Why(p, path).Hits...)
	}
	if !o.Demo {
		c.Adopted = func(p *plan.Plan) { go consent.In(paths.State()).Add(p) }
	}
	c.Secrets = share.Secrets(os.Getenv)
	var err error
	if c.Share, err = Share(p, c.Store); err != nil {
		problems = append(problems, fmt.Errorf("the share is not used: %w", err))
	}
	if c.Share != nil && !o.Once {
		c.Share.Rate = sendRate
	}
	page, err := yield.Create()
	if c.Yield = page.Wait; err != nil {
		problems = append(problems, err)
	}
	return c, problems
}

// widest is the width of the longest unit name of a plan.
func widest(p *plan.Plan) int {
	n := 0
	for _, u := range p.Units {
		n = max(n, len(u.Name))
	}
	return n
}

// CrashFile is the report of a crash, in the directory of the log.
const CrashFile = "crash.txt"

// attend handles events of the supervisor, until the project has ended and its faces have got that.
func (r *running) attend(self *guard.Supervisor, o Options) {
	s := r.session
	if !o.Background {
		leave := s.Enter(api.Face{}) // stands for the launcher, until it attaches as a face
		go func() {
			<-self.LauncherGone()
			leave()
		}()
	}
	go func() {
		<-self.WatchdogGone()
		quitSoon(s)
	}()
	go quitOnSignal(s)
	if o.Demo {
		go attendDemo(s, filepath.Dir(o.File), o.Autopilot)
	}
	go r.keepPlace(self)
	<-s.Done()
	last, _ := s.Snapshot(context.Background())
	r.linger(last.Faces)
	r.server.Close()
	os.Remove(r.place.Socket)
	guard.EndAll()
	r.book.Close()
	if r.records != nil {
		r.records.Close()
	}
}

// keepPlace keeps the project reachable, even if others remove its socket or its lock.
func (r *running) keepPlace(self *guard.Supervisor) {
	tick := time.NewTicker(api.Beat)
	defer tick.Stop()
	lock, problem := self.Lock, ""
	for {
		select {
		case <-tick.C:
		case <-r.session.Done():
			return
		}
		socket, again, err := r.place.Keep(r.socket, lock)
		if err != nil && err.Error() != problem {
			r.session.Note("the project cannot be reached by new faces: " + err.Error())
		}
		problem = ""
		if err != nil {
			problem = err.Error()
		}
		if again != nil {
			lock = again
			r.session.Note("the project's lock was removed and has been recreated")
		}
		if socket != nil {
			r.socket.Close()
			r.socket = socket
			go r.server.Serve(socket)
			r.session.Note("the project's socket was removed and has been recreated")
		}
	}
}

// linger waits until every attached face has got the end, but not forever: a suspended face does not keep the process
// from exiting. A stream of lines may be read slowly.
func (r *running) linger(faces []api.Face) {
	const look, screens, streams = 5 * time.Millisecond, time.Second, time.Minute
	limit := screens
	if slices.ContainsFunc(faces, func(f api.Face) bool { return f.Kind == "plain" }) {
		limit = streams
	}
	for began := time.Now(); r.server.Streams() > 0 && time.Since(began) < limit; {
		time.Sleep(look)
	}
}

// quitSoon ends everything in order, but within the grace period, because there is no face left that could ask for
// more.
func quitSoon(s *session.Session) {
	s.Request(engine.Quit)
	select {
	case <-s.Done():
	case <-time.After(guard.Grace):
		s.Request(engine.QuitNow)
	}
}

// quitOnSignal handles the first terminating signal by quitting in order, and the second by quitting at once.
func quitOnSignal(s *session.Session) {
	signals := make(chan os.Signal, 2)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	request := engine.Quit
	for range signals {
		s.Request(request)
		request = engine.QuitNow
	}
}

// attendDemo edits the demo's files, if requested, until the session is over.
func attendDemo(s *session.Session, folder string, pause time.Duration) {
	s.Note("the demo is in " + folder + ": edit its files and watch what follows")
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

// Store returns the store of contents of this user, and its limits.
func Store() (*contents.Store, contents.Limits) {
	own, _ := preferences.Read(paths.Personal(), nil) // the faces report what is wrong with it
	limits := contents.Limits(own.Store)
	return contents.In(paths.Contents(), limits), limits
}
