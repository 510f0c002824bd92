package api

import (
	"cmp"
	"context"
	"encoding/gob"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"net"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Limits of what is taken from faces.
const (
	maxBody    = 1 << 20 // bytes of a request
	maxHeaders = 16 << 10
	maxStreams = 200 // that go on at the same time
	maxUnits   = 10_000
	maxKind    = 32 // bytes of what a face calls itself
)

// Server carries a project over HTTP/1.1. Its methods may be called from any goroutine.
type Server struct {
	project Project
	session string
	http    http.Server
	streams chan struct{} // has room for those that may still begin
	ctx     context.Context
	stop    func()
}

// NewServer returns a server for a project; session tells it from others, in the ids of
// events.
func NewServer(p Project, session string) *Server {
	s := &Server{project: p, session: session, streams: make(chan struct{}, maxStreams)}
	s.ctx, s.stop = context.WithCancel(context.Background())
	s.http = http.Server{
		Handler: s.handler(), MaxHeaderBytes: maxHeaders, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: time.Minute,
		BaseContext: func(net.Listener) context.Context { return s.ctx },
	}
	return s
}

// Serve answers until Close. It blocks.
func (s *Server) Serve(l net.Listener) error {
	if err := s.http.Serve(l); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

// Streams is how many streams go on.
func (s *Server) Streams() int { return len(s.streams) }

// Close ends all that goes on. Requests that have come are answered first, if that takes no more
// than a moment.
func (s *Server) Close() {
	const moment = 300 * time.Millisecond
	ctx, stop := context.WithTimeout(context.Background(), moment)
	defer stop()
	s.http.Shutdown(ctx)
	s.stop()
	s.http.Close()
}

// hello is what a face asks for first.
type hello struct {
	Version int    `json:"version"`
	Session string `json:"session"`
}

// root is the part of every path that names the contract's version.
var root = fmt.Sprintf("/v%d", Version)

func (s *Server) handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /hello", func(w http.ResponseWriter, _ *http.Request) {
		reply(w, hello{Version, s.session}, nil)
	})
	mux.HandleFunc("GET "+root+"/snapshot", func(w http.ResponseWriter, r *http.Request) {
		snap, err := s.project.Snapshot(r.Context())
		reply(w, snap, err)
	})
	mux.HandleFunc("GET "+root+"/beats", s.streamed(s.beats))
	mux.HandleFunc("GET "+root+"/follow", s.streamed(s.follow))
	mux.HandleFunc("GET "+root+"/facts", s.streamed(s.facts))
	mux.HandleFunc("GET "+root+"/lines", s.lines)
	mux.HandleFunc("GET "+root+"/lines/follow", s.streamed(s.followLines))
	mux.HandleFunc("GET "+root+"/search", s.streamed(s.search))
	mux.HandleFunc("GET "+root+"/text", s.streamed(s.text))
	mux.HandleFunc("GET "+root+"/why", func(w http.ResponseWriter, r *http.Request) {
		answer, err := s.project.Why(r.Context(), r.FormValue("path"))
		reply(w, answer, err)
	})
	mux.HandleFunc("GET "+root+"/cases", func(w http.ResponseWriter, r *http.Request) {
		answerQuery(w, r, s.project.Cases)
	})
	mux.HandleFunc("GET "+root+"/case", func(w http.ResponseWriter, r *http.Request) {
		c, err := s.project.Case(r.Context(), r.FormValue("unit"), CaseName{r.FormValue("suite"), r.FormValue("name")})
		reply(w, c, err)
	})
	mux.HandleFunc("GET "+root+"/findings", func(w http.ResponseWriter, r *http.Request) {
		answerQuery(w, r, s.project.Findings)
	})
	mux.HandleFunc("GET "+root+"/unit", func(w http.ResponseWriter, r *http.Request) {
		d, err := s.project.Detail(r.Context(), r.FormValue("name"))
		reply(w, d, err)
	})
	mux.HandleFunc("GET "+root+"/samples", func(w http.ResponseWriter, r *http.Request) {
		from, err := whole(r.FormValue("from"), "from")
		if err != nil {
			reply(w, nil, err)
			return
		}
		page, err := s.project.Samples(r.Context(), from)
		reply(w, page, err)
	})
	mux.HandleFunc("GET "+root+"/screen", s.screen)
	mux.HandleFunc("GET "+root+"/screen/follow", s.streamed(s.followScreen))
	mux.HandleFunc("POST "+root+"/input", s.input)
	mux.HandleFunc("POST "+root+"/requests", s.requests)
	mux.HandleFunc("GET "+root+"/wait", s.streamed(s.wait))
	mux.HandleFunc("/", func(w http.ResponseWriter, r *http.Request) {
		reply(
			w,
			nil,
			problem{
				http.StatusNotFound,
				fmt.Sprintf("there is no %s %s in version %d of the socket", r.Method, r.URL.Path, Version),
			},
		)
	})
	return mux
}

// problem is an error with the HTTP status that it is answered by.
type problem struct {
	status int
	text   string
}

func (p problem) Error() string { return p.text }

func badQuery(format string, args ...any) error {
	return problem{http.StatusBadRequest, fmt.Sprintf(format, args...)}
}

// trouble is an error as it is sent.
type trouble struct {
	Error string `json:"error"`
}

// reply answers with a value as JSON, or with an error and its status.
func reply(w http.ResponseWriter, value any, err error) {
	w.Header().Set("Content-Type", "application/json")
	status := http.StatusOK
	var refusal *Refusal
	var p problem
	switch {
	case err == nil:
	case errors.As(err, &refusal):
		status = http.StatusConflict
	case errors.As(err, &p):
		status = p.status
	default:
		status = http.StatusInternalServerError
	}
	if err != nil {
		value = trouble{err.Error()}
	}
	w.WriteHeader(status)
	out := json.NewEncoder(w)
	out.SetEscapeHTML(false)
	out.Encode(value) // the client may be gone
}

// streamed bounds how many streams go on at the same time.
func (s *Server) streamed(serve http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		select {
		case s.streams <- struct{}{}:
			defer func() { <-s.streams }()
			serve(w, r)
		default:
			reply(w, nil, problem{http.StatusServiceUnavailable, fmt.Sprintf("too many open streams: at most %d", maxStreams)})
		}
	}
}

// events writes server-sent events, as the HTML standard describes them in "Server-sent
// events".
type events struct {
	mu      sync.Mutex // held while something is written
	w       http.ResponseWriter
	session string
}

// beat writes a comment, which tells the reader that the project is alive.
func (e *events) beat() error {
	e.mu.Lock()
	defer e.mu.Unlock()
	if _, err := io.WriteString(e.w, ": beat\n\n"); err != nil {
		return err
	}
	return http.NewResponseController(e.w).Flush()
}

func (s *Server) beginEvents(w http.ResponseWriter) *events {
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(http.StatusOK)
	http.NewResponseController(w).Flush()
	return &events{w: w, session: s.session}
}

func (e *events) send(name string, number int64, value any) error {
	data, err := json.Marshal(value)
	if err != nil {
		return err
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	if _, err := fmt.Fprintf(e.w, "id: %s.%d\nevent: %s\ndata: %s\n\n", e.session, number, name, data); err != nil {
		return err
	}
	return http.NewResponseController(e.w).Flush()
}

// beating has a stream of events carry the project's beats, until end is called.
func (s *Server) beating(r *http.Request, out *events) (end func()) {
	ctx, stop := context.WithCancel(r.Context())
	over := make(chan struct{})
	go func() {
		defer close(over)
		s.project.Beats(ctx, out.beat)
	}()
	return func() {
		stop()
		<-over
	}
}

// follow sends the project whole, and then what changes.
func (s *Server) follow(w http.ResponseWriter, r *http.Request) {
	pid, _ := strconv.Atoi(r.FormValue("pid"))
	face := Face{Kind: r.FormValue("face"), PID: pid}
	if len(face.Kind) > maxKind {
		reply(w, nil, badQuery("face is too long"))
		return
	}
	out := s.beginEvents(w)
	defer s.beating(r, out)()
	var last *Snapshot
	err := s.project.Follow(r.Context(), face, func(snap *Snapshot) error {
		before := last
		if last = snap; before == nil {
			return out.send("snapshot", snap.Number, snap)
		}
		return out.send("change", snap.Number, Diff(before, snap))
	})
	if err == nil { // it may still want lines: the stream is open until it has gone
		<-r.Context().Done()
	}
}

// facts sends what happens.
func (s *Server) facts(w http.ResponseWriter, r *http.Request) {
	since, err := s.since(r)
	if err != nil {
		reply(w, nil, err)
		return
	}
	out := s.beginEvents(w)
	defer s.beating(r, out)()
	if since == elsewhere {
		out.send("gap", 0, trouble{"that was another session: take a snapshot"})
		return
	}
	err = s.project.Subscribe(r.Context(), since, func(f Fact) error { return out.send("fact", f.ID, f) })
	if errors.Is(err, ErrGap) {
		out.send("gap", 0, trouble{ErrGap.Error()})
	}
}

// elsewhere stands for an event of another session.
const elsewhere = -1

// since returns the number of the event after which the next ones are asked for.
func (s *Server) since(r *http.Request) (int64, error) {
	if id := r.Header.Get("Last-Event-ID"); id != "" {
		session, number, _ := cutLast(id, ".")
		if session != s.session {
			return elsewhere, nil
		}
		return whole(number, "Last-Event-ID")
	}
	return whole(r.FormValue("since"), "since")
}

func cutLast(s, sep string) (before, after string, found bool) {
	if i := strings.LastIndex(s, sep); i >= 0 {
		return s[:i], s[i+len(sep):], true
	}
	return s, "", false
}

// whole reads a whole number from 0; empty is 0.
func whole(text, name string) (int64, error) {
	if text == "" {
		return 0, nil
	}
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < 0 {
		return 0, badQuery("%s must be a whole number, not %q", name, text)
	}
	return n, nil
}

// answerQuery answers which cases or findings are asked for.
func answerQuery[Page any](
	w http.ResponseWriter,
	r *http.Request,
	ask func(context.Context, ResultQuery) (Page, error),
) {
	q := ResultQuery{Only: r.FormValue("only"), Text: r.FormValue("text"), By: r.FormValue("by")}
	if err := r.ParseForm(); err != nil {
		reply(w, nil, badQuery("%v", err))
		return
	}
	q.Units = r.Form["unit"]
	from, err := whole(r.FormValue("from"), "from")
	count, err2 := whole(r.FormValue("count"), "count")
	if err = cmp.Or(err, err2); err != nil {
		reply(w, nil, err)
		return
	}
	q.From, q.Count = int(from), int(count)
	page, err := ask(r.Context(), q)
	reply(w, page, err)
}

// lineQuery reads which lines are asked for.
func lineQuery(r *http.Request) (LineQuery, error) {
	q := LineQuery{Filter: r.FormValue("filter"), Unit: r.FormValue("unit")}
	count, err := whole(r.FormValue("count"), "count")
	if err != nil {
		return q, err
	}
	if count > MaxLines {
		return q, badQuery("count must be at most %d", MaxLines)
	}
	q.Count = int(count)
	if q.From, err = whole(r.FormValue("from"), "from"); err != nil {
		return q, err
	}
	run, err := whole(r.FormValue("run"), "run")
	if err != nil {
		return q, err
	}
	q.Run = int(min(run, 1<<31))
	for name, at := range map[string]*time.Time{"until": &q.Until, "since": &q.Since} {
		if text := r.FormValue(name); text != "" {
			if *at, err = time.Parse(time.RFC3339Nano, text); err != nil {
				return q, badQuery("%s must be a time such as 2030-05-04T12:04:31.5Z, not %q", name, text)
			}
		}
	}
	if q.End, err = whole(r.FormValue("end"), "end"); err != nil {
		return q, err
	}
	if text := r.FormValue("move"); text != "" {
		if q.Move, err = strconv.Atoi(text); err != nil {
			return q, badQuery("move must be a whole number, not %q", text)
		}
	}
	return q, flags(r, map[string]*bool{"last": &q.Last, "why": &q.Why, "fold": &q.Fold})
}

// flags reads values that are true or false.
func flags(r *http.Request, into map[string]*bool) (err error) {
	for name, flag := range into {
		if text := r.FormValue(name); text != "" {
			if *flag, err = strconv.ParseBool(text); err != nil {
				return badQuery("%s must be true or false, not %q", name, text)
			}
		}
	}
	return nil
}

// search sends what a search finds as JSON lines.
func (s *Server) search(w http.ResponseWriter, r *http.Request) {
	q := SearchQuery{Pattern: r.FormValue("pattern"), Filter: r.FormValue("filter")}
	most, err := whole(r.FormValue("most"), "most")
	if err == nil {
		q.From, err = whole(r.FormValue("from"), "from")
	}
	if err == nil {
		err = flags(r, map[string]*bool{"back": &q.Back, "count": &q.Count})
	}
	if err == nil && most > MaxLines {
		err = badQuery("most must be at most %d", MaxLines)
	}
	q.Most = int(most)
	if err != nil {
		reply(w, nil, err)
		return
	}
	jsonLines(w, func(send func(Found) error) error { return s.project.Search(r.Context(), q, send) })
}

// jsonLines answers with JSON lines, each as it is sent, or with an error where that comes before the first.
func jsonLines[Line any](w http.ResponseWriter, from func(send func(Line) error) error) {
	begun := false
	out := json.NewEncoder(w)
	out.SetEscapeHTML(false)
	err := from(func(line Line) error {
		if !begun {
			begun = true
			w.Header().Set("Content-Type", "application/x-ndjson")
		}
		if err := out.Encode(line); err != nil {
			return err
		}
		return http.NewResponseController(w).Flush()
	})
	if err != nil && !begun {
		reply(w, nil, err)
	}
}

// text sends lines as they are printed.
func (s *Server) text(w http.ResponseWriter, r *http.Request) {
	from, err := whole(r.FormValue("from"), "from")
	end := int64(math.MaxInt64)
	if err == nil && r.FormValue("end") != "" {
		end, err = whole(r.FormValue("end"), "end")
	}
	if err != nil {
		reply(w, nil, err)
		return
	}
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	s.project.Text(r.Context(), from, end, w) // the client may be gone
}

func (s *Server) lines(w http.ResponseWriter, r *http.Request) {
	q, err := lineQuery(r)
	var page Page
	if err == nil {
		page, err = s.project.Lines(r.Context(), q)
	}
	if page.Lines == nil {
		page.Lines = []Line{}
	}
	if err == nil && r.Header.Get("Accept") == bulkType {
		w.Header().Set("Content-Type", bulkType)
		gob.NewEncoder(w).Encode(page) // the client may be gone
		return
	}
	reply(w, page, err)
}

// bulkType is how faces of the same version take pages of lines: as encoding/gob has them,
// since JSON takes several times as long.
const bulkType = "application/x-omnivigil-gob"

// followLines sends lines as JSON lines: those that are asked for, and then those that come.
func (s *Server) followLines(w http.ResponseWriter, r *http.Request) {
	q, err := lineQuery(r)
	if err != nil {
		reply(w, nil, err)
		return
	}
	w.Header().Set("Content-Type", "application/x-ndjson")
	w.WriteHeader(http.StatusOK)
	out := json.NewEncoder(w)
	out.SetEscapeHTML(false)
	FollowLines(r.Context(), s.project, q, func(lines []Line) error {
		for _, l := range lines {
			if err := out.Encode(l); err != nil {
				return err
			}
		}
		return http.NewResponseController(w).Flush()
	})
}

// decode reads the body of a request, which is to be JSON such as the example.
func decode(w http.ResponseWriter, r *http.Request, into any, example string) error {
	in := json.NewDecoder(http.MaxBytesReader(w, r.Body, maxBody))
	in.DisallowUnknownFields()
	err := in.Decode(into)
	var tooLarge *http.MaxBytesError
	switch {
	case err == nil:
		return nil
	case errors.As(err, &tooLarge):
		return problem{
			http.StatusRequestEntityTooLarge,
			fmt.Sprintf("the request is too large: its body has at most %d bytes", maxBody),
		}
	}
	return badQuery("the body must be JSON such as %s: %v", example, err)
}

func (s *Server) requests(w http.ResponseWriter, r *http.Request) {
	var request Request
	err := decode(w, r, &request, `{"action":"restart","units":["berths"]}`)
	if err == nil && len(request.Units) > maxUnits {
		err = badQuery("a request for %d units is too large: it has at most %d", len(request.Units), maxUnits)
	}
	if err != nil {
		reply(w, nil, err)
		return
	}
	answer, err := s.project.Do(r.Context(), request)
	reply(w, answer, err)
}

func (s *Server) wait(w http.ResponseWriter, r *http.Request) {
	q := WaitQuery{Units: r.URL.Query()["unit"]}
	if text := r.FormValue("timeout"); text != "" {
		if err := q.Timeout.UnmarshalJSON([]byte(text)); err != nil || q.Timeout < 0 {
			reply(w, nil, badQuery("timeout must be a number of seconds, not %q", text))
			return
		}
	}
	waited, err := s.project.Wait(r.Context(), q)
	reply(w, waited, err)
}
