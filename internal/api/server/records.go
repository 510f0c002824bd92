package server

import (
	"bytes"
	"context"
	"encoding/gob"
	"fmt"
	"net/http"

	"omnivigil/internal/api"
	"omnivigil/internal/api/changes"
)

// reading answers a request from the record of a session.
type reading func(w http.ResponseWriter, r *http.Request, from api.Record)

// records adds the paths that read a session: the running one, and below its name an earlier one.
func (s *Server) records(mux *http.ServeMux) {
	for path, read := range map[string]reading{
		"/snapshot": func(w http.ResponseWriter, r *http.Request, from api.Record) {
			snap, err := from.Snapshot(r.Context())
			reply(w, snap, err)
		},
		"/verdict": func(w http.ResponseWriter, r *http.Request, from api.Record) { answerQuery(w, r, from.VerdictAt) },
		"/lines":   s.lines,
		"/counts":  func(w http.ResponseWriter, r *http.Request, from api.Record) { answerQuery(w, r, from.Counts) },
		"/search":  s.streamedFrom(search),
		"/text":    s.streamedFrom(text),
		"/cases":   func(w http.ResponseWriter, r *http.Request, from api.Record) { answerQuery(w, r, from.Cases) },
		"/case": func(w http.ResponseWriter, r *http.Request, from api.Record) {
			answerQuery(w, r, func(ctx context.Context, q api.CaseQuery) (api.Case, error) {
				return from.Case(ctx, q.Unit, q.Name)
			})
		},
		"/findings": func(w http.ResponseWriter, r *http.Request, from api.Record) { answerQuery(w, r, from.Findings) },
		"/samples":  samples,
		"/changes": func(w http.ResponseWriter, r *http.Request, from api.Record) {
			answerQuery(w, r, func(ctx context.Context, q api.ChangesQuery) (changes.Changes, error) {
				return from.Changes(ctx, q.Query)
			})
		},
	} {
		mux.HandleFunc("GET "+api.Root+path, func(w http.ResponseWriter, r *http.Request) { read(w, r, s.project) })
		mux.HandleFunc("GET "+api.Root+"/sessions/{name}"+path, func(w http.ResponseWriter, r *http.Request) {
			from, err := s.project.Session(r.Context(), r.PathValue("name"))
			if err != nil {
				reply(w, nil, err)
				return
			}
			read(w, r, from)
		})
	}
}

// streamedFrom is streamed for a reading.
func (s *Server) streamedFrom(read reading) reading {
	return func(w http.ResponseWriter, r *http.Request, from api.Record) {
		s.streamed(func(w http.ResponseWriter, r *http.Request) { read(w, r, from) })(w, r)
	}
}

func samples(w http.ResponseWriter, r *http.Request, from api.Record) {
	q := api.NumberQuery{Param: "from"}
	if err := api.Decode(r.URL.Query(), &q); err != nil {
		reply(w, nil, err)
		return
	}
	page, err := from.Samples(r.Context(), q.Number)
	reply(w, page, err)
}

// search sends what a search finds, as JSON lines.
func search(w http.ResponseWriter, r *http.Request, from api.Record) {
	var q api.SearchQuery
	if err := api.Decode(r.URL.Query(), &q); err != nil {
		reply(w, nil, err)
		return
	}
	jsonLines(w, func(send func(api.Found) error) error { return from.Search(r.Context(), q, send) })
}

// text sends lines as printed text.
func text(w http.ResponseWriter, r *http.Request, from api.Record) {
	var q api.TextQuery
	if err := api.Decode(r.URL.Query(), &q); err != nil {
		reply(w, nil, err)
		return
	}
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	if _, err := from.Text(r.Context(), q, w); err != nil {
		panic(http.ErrAbortHandler) // otherwise the client takes what it has for everything
	}
}

// lines sends a page. Faces that follow the log ask for the same ones.
func (s *Server) lines(w http.ResponseWriter, r *http.Request, from api.Record) {
	var q api.LineQuery
	if err := api.Decode(r.URL.Query(), &q); err != nil {
		reply(w, nil, err)
		return
	}
	bulk := r.Header.Get("Accept") == api.BulkType
	page := func() ([]byte, error) {
		page, err := from.Lines(r.Context(), q)
		if err != nil {
			return nil, err
		}
		if page.Lines == nil {
			page.Lines = []api.Line{}
		}
		if !bulk {
			return encoded(page)
		}
		var b bytes.Buffer
		err = gob.NewEncoder(&b).Encode(page)
		return b.Bytes(), err
	}
	var data []byte
	var err error
	if q.To > 0 {
		data, err = s.pages.get(fmt.Sprint(bulk, r.URL.Path, "?", r.URL.RawQuery), page)
	} else {
		data, err = page()
	}
	if err != nil {
		reply(w, nil, err)
		return
	}
	kind := jsonType
	if bulk {
		kind = api.BulkType
	}
	w.Header().Set("Content-Type", kind)
	w.Write(data) // the client may be gone
}
