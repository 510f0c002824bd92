// Package server answers the requests of docs/api.md: it carries an api.Project over HTTP/1.1 on a Unix socket.
// Start reading at Server.handler, the table of paths.
//
// It limits what faces can send (sizes of requests, number of open streams) and knows nothing of how a project is
// run.
package server

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"sync"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/api/past"
)

// Limits for faces.
const (
	maxBody    = 1 << 20 // bytes of a request
	maxHeaders = 16 << 10
	maxStreams = 200 // open at the same time
	maxUnits   = 10_000
)

// Server carries a project over HTTP/1.1. Its methods may be called from any goroutine.
type Server struct {
	project api.Project
	session string
	http    http.Server
	streams chan struct{} // has one entry for each stream that may still be opened
	pages   shared
	changes shared
	ctx     context.Context
	stop    func()
}

// NewServer returns a server for a project. The session is part of the event ids, to distinguish sessions.
func NewServer(p api.Project, session string) *Server {
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

// Streams is the number of open streams.
func (s *Server) Streams() int { return len(s.streams) }

// Close ends all streams. Requests that have arrived are answered first, if that takes no more than a moment.
func (s *Server) Close() {
	const moment = 300 * time.Millisecond
	ctx, stop := context.WithTimeout(context.Background(), moment)
	defer stop()
	s.http.Shutdown(ctx)
	s.stop()
	s.http.Close()
}

func (s *Server) handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /hello", func(w http.ResponseWriter, _ *http.Request) {
		reply(w, api.Hello{Version: api.Version, Session: s.session}, nil)
	})
	s.records(mux)
	mux.HandleFunc("GET "+api.Root+"/beats", s.streamed(s.beats))
	mux.HandleFunc("GET "+api.Root+"/follow", s.streamed(s.follow))
	mux.HandleFunc("GET "+api.Root+"/facts", s.streamed(s.facts))
	mux.HandleFunc("GET "+api.Root+"/lines/follow", s.streamed(s.followLines))
	mux.HandleFunc("GET "+api.Root+"/why", func(w http.ResponseWriter, r *http.Request) {
		if r.FormValue("path") == "" {
			reply(w, nil, badQuery("path is missing: which file or directory would be saved?"))
			return
		}
		answer, err := s.project.Why(r.Context(), r.FormValue("path"))
		reply(w, answer, err)
	})
	mux.HandleFunc("GET "+api.Root+"/unit", func(w http.ResponseWriter, r *http.Request) {
		answerUnit(w, r, s.project.Detail)
	})
	mux.HandleFunc("GET "+api.Root+"/explanation", func(w http.ResponseWriter, r *http.Request) {
		answerUnit(w, r, s.project.Explain)
	})
	mux.HandleFunc("GET "+api.Root+"/observations", func(w http.ResponseWriter, r *http.Request) {
		answerQuery(w, r, func(ctx context.Context, q api.UnitsQuery) (api.Observations, error) {
			return s.project.Observations(ctx, q.Units)
		})
	})
	mux.HandleFunc("GET "+api.Root+"/history", func(w http.ResponseWriter, r *http.Request) {
		answerQuery(w, r, func(ctx context.Context, q api.HistoryQuery) (past.History, error) {
			return s.project.History(ctx, q.Query)
		})
	})
	mux.HandleFunc("GET "+api.Root+"/screen", s.screen)
	mux.HandleFunc("GET "+api.Root+"/screen/follow", s.streamed(s.followScreen))
	mux.HandleFunc("POST "+api.Root+"/input", s.input)
	mux.HandleFunc("POST "+api.Root+"/requests", s.requests)
	mux.HandleFunc("GET "+api.Root+"/wait", s.streamed(func(w http.ResponseWriter, r *http.Request) {
		answerQuery(w, r, s.project.Wait)
	}))
	mux.HandleFunc("/", func(w http.ResponseWriter, r *http.Request) {
		reply(
			w,
			nil,
			problem{
				http.StatusNotFound,
				fmt.Sprintf("there is no %s %s in version %d of the socket", r.Method, r.URL.Path, api.Version),
			},
		)
	})
	return mux
}

// problem is an error with its HTTP status.
type problem struct {
	status int
	text   string
}

func (p problem) Error() string { return p.text }

func badQuery(format string, args ...any) error {
	return problem{http.StatusBadRequest, fmt.Sprintf(format, args...)}
}

// reply answers with a value as JSON, or with an error and its status.
func reply(w http.ResponseWriter, value any, err error) {
	w.Header().Set("Content-Type", jsonType)
	status := http.StatusOK
	var refusal *api.Refusal
	var query *api.QueryError
	var p problem
	switch {
	case err == nil:
	case errors.As(err, &query):
		status = http.StatusBadRequest
	case errors.As(err, &refusal):
		status = http.StatusConflict
	case errors.As(err, &p):
		status = p.status
	default:
		status = http.StatusInternalServerError
	}
	if err != nil {
		value = api.Trouble{Error: err.Error()}
	}
	data, _ := encoded(value)
	w.WriteHeader(status)
	w.Write(data) // the client may be gone
}

const jsonType = "application/json"

// encoded is a value as JSON.
func encoded(value any) ([]byte, error) {
	var b bytes.Buffer
	out := json.NewEncoder(&b)
	out.SetEscapeHTML(false)
	err := out.Encode(value)
	return b.Bytes(), err
}

// streamed limits the number of streams that are open at the same time.
func (s *Server) streamed(serve http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		select {
		case s.streams <- struct{}{}:
			defer func() { <-s.streams }()
			serve(w, r)
		default:
			reply(w, nil, problem{http.StatusServiceUnavailable,
				fmt.Sprintf("too many open streams: at most %d", maxStreams)})
		}
	}
}

// events writes server-sent events, as described in the HTML standard, "Server-sent events".
type events struct {
	mu      sync.Mutex // held while writing
	w       http.ResponseWriter
	session string
}

// beat writes a comment as a heartbeat.
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
	return e.sendData(name, number, data)
}

func (e *events) sendData(name string, number int64, data []byte) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	if _, err := fmt.Fprintf(e.w, "id: %s.%d\nevent: %s\ndata: %s\n\n", e.session, number, name, data); err != nil {
		return err
	}
	return http.NewResponseController(e.w).Flush()
}

// beating adds the project's heartbeats to a stream of events, until end is called.
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

// follow sends a snapshot, and then the differences.
func (s *Server) follow(w http.ResponseWriter, r *http.Request) {
	var face api.Face
	if err := api.Decode(r.URL.Query(), &face); err != nil {
		reply(w, nil, err)
		return
	}
	out := s.beginEvents(w)
	defer s.beating(r, out)()
	var last *api.Snapshot
	err := s.project.Follow(r.Context(), face, func(snap *api.Snapshot) error {
		before := last
		if last = snap; before == nil {
			return out.send("snapshot", snap.Number, snap)
		}
		change, err := s.changes.get(fmt.Sprint(before.Number, " ", snap.Number), func() ([]byte, error) {
			return json.Marshal(api.Diff(before, snap))
		})
		if err != nil {
			return err
		}
		return out.sendData("change", snap.Number, change)
	})
	if err == nil { // the face may still request lines: the stream is open until the face closes it
		<-r.Context().Done()
	}
}

// facts sends facts.
func (s *Server) facts(w http.ResponseWriter, r *http.Request) {
	since, err := s.since(r)
	if err != nil {
		reply(w, nil, err)
		return
	}
	out := s.beginEvents(w)
	defer s.beating(r, out)()
	if since == elsewhere {
		out.send("gap", 0, api.Trouble{Error: "that was another session: take a snapshot"})
		return
	}
	err = s.project.Subscribe(r.Context(), since, func(f api.Fact) error { return out.send("fact", f.ID, f) })
	if errors.Is(err, api.ErrGap) {
		out.send("gap", 0, api.Trouble{Error: api.ErrGap.Error()})
	}
}

// elsewhere is the number for an event of another session.
const elsewhere = -1

// since returns the number after which events are requested.
func (s *Server) since(r *http.Request) (int64, error) {
	q := api.NumberQuery{Param: "since"}
	values := r.URL.Query()
	if id := r.Header.Get("Last-Event-ID"); id != "" {
		at := max(strings.LastIndex(id, "."), 0)
		if id[:at] != s.session {
			return elsewhere, nil
		}
		q.Param = "Last-Event-ID"
		values.Set(q.Param, id[at+1:])
	}
	err := api.Decode(values, &q)
	return q.Number, err
}

// answerUnit answers a query about the unit that the parameter name names.
func answerUnit[A any](w http.ResponseWriter, r *http.Request, of func(context.Context, string) (A, error)) {
	if r.FormValue("name") == "" {
		reply(w, nil, badQuery("name is missing: which unit?"))
		return
	}
	answer, err := of(r.Context(), r.FormValue("name"))
	reply(w, answer, err)
}

// answerQuery answers a query with the result of ask.
func answerQuery[Q any, Answer any, P interface {
	*Q
	api.Query
}](w http.ResponseWriter, r *http.Request, ask func(context.Context, Q) (Answer, error)) {
	var q Q
	if err := api.Decode(r.URL.Query(), P(&q)); err != nil {
		reply(w, nil, err)
		return
	}
	answer, err := ask(r.Context(), q)
	reply(w, answer, err)
}

// jsonLines answers with JSON lines, each as it is sent, or with an error if that comes before the first line.
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

// followLines sends lines as JSON lines: those requested, and then new ones.
func (s *Server) followLines(w http.ResponseWriter, r *http.Request) {
	var q api.LineQuery
	if err := api.Decode(r.URL.Query(), &q); err != nil {
		reply(w, nil, err)
		return
	}
	w.Header().Set("Content-Type", "application/x-ndjson")
	w.WriteHeader(http.StatusOK)
	out := json.NewEncoder(w)
	out.SetEscapeHTML(false)
	api.FollowLines(r.Context(), s.project, q, func(lines []api.Line) error {
		for _, l := range lines {
			if err := out.Encode(l); err != nil {
				return err
			}
		}
		return http.NewResponseController(w).Flush()
	})
}

// decode reads the body of a request, which must be JSON like the example.
func decode(w http.ResponseWriter, r *http.Request, into any, example string) error {
	in := json.NewDecoder(http.MaxBytesReader(w, r.Body, maxBody))
	in.DisallowUnknownFields()
	err := in.Decode(into)
	if err == nil && in.More() {
		err = errors.New("something comes after it")
	}
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
	var request api.Request
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

// screen serves Screen.
func (s *Server) screen(w http.ResponseWriter, r *http.Request) {
	screen, err := s.project.Screen(r.Context(), r.FormValue("unit"))
	reply(w, screen, err)
}

// followScreen sends a terminal's screen as JSON lines.
func (s *Server) followScreen(w http.ResponseWriter, r *http.Request) {
	var q api.ScreenQuery
	err := api.Decode(r.URL.Query(), &q)
	if bounded := q.Size.Bounded(); err == nil && q.Size != (api.Size{}) &&
		(bounded.Cols < q.Size.Cols || bounded.Rows < q.Size.Rows) {
		err = badQuery("a terminal of %d columns and %d rows is too large: it has at most %d of each, and %d cells",
			q.Size.Cols, q.Size.Rows, api.MaxCells, api.MaxArea)
	}
	if err != nil {
		reply(w, nil, err)
		return
	}
	jsonLines(w, func(send func(api.Screen) error) error { return s.project.FollowScreen(r.Context(), q, send) })
}

// input serves Input.
func (s *Server) input(w http.ResponseWriter, r *http.Request) {
	var in api.Input
	if err := decode(w, r, &in, `{"unit":"berths","text":"y","keys":["enter"]}`); err != nil {
		reply(w, nil, err)
		return
	}
	reply(w, struct{}{}, s.project.Input(r.Context(), in))
}

// beats sends a comment for each heartbeat, until the project has ended.
func (s *Server) beats(w http.ResponseWriter, r *http.Request) {
	out := s.beginEvents(w)
	s.project.Beats(r.Context(), out.beat)
}
