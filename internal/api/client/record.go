package client

import (
	"bufio"
	"context"
	"encoding/gob"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"net/http"

	"omnivigil/internal/api"
	"omnivigil/internal/api/changes"
)

// record is a session of the project: the running one, or an earlier one.
type record struct {
	c    *Client
	root string // of its paths
	// files returns its log as read from files; nil: that cannot be done.
	files func() api.Log
}

// Snapshot implements Record.
func (r *record) Snapshot(ctx context.Context) (*api.Snapshot, error) {
	s := &api.Snapshot{}
	return s, r.c.get(ctx, r.root+"/snapshot", nil, s)
}

// VerdictAt implements Record.
func (r *record) VerdictAt(ctx context.Context, q api.VerdictQuery) (api.PastVerdict, error) {
	var v api.PastVerdict
	return v, r.c.get(ctx, r.root+"/verdict", api.Encode(&q), &v)
}

// Cases implements Record.
func (r *record) Cases(ctx context.Context, q api.ResultQuery) (api.CasePage, error) {
	var p api.CasePage
	return p, r.c.get(ctx, r.root+"/cases", api.Encode(&q), &p)
}

// Case implements Record.
func (r *record) Case(ctx context.Context, unit string, name api.CaseName) (api.Case, error) {
	var out api.Case
	return out, r.c.get(ctx, r.root+"/case", api.Encode(&api.CaseQuery{Unit: unit, Name: name}), &out)
}

// Findings implements Record.
func (r *record) Findings(ctx context.Context, q api.ResultQuery) (api.FindingPage, error) {
	var p api.FindingPage
	return p, r.c.get(ctx, r.root+"/findings", api.Encode(&q), &p)
}

// Changes implements Record.
func (r *record) Changes(ctx context.Context, q changes.Query) (c changes.Changes, err error) {
	return c, r.c.get(ctx, r.root+"/changes", api.Encode(&api.ChangesQuery{Query: q}), &c)
}

// Samples implements Record.
func (r *record) Samples(ctx context.Context, from int64) (api.SamplePage, error) {
	var p api.SamplePage
	return p, r.c.get(ctx, r.root+"/samples", api.Encode(&api.NumberQuery{Param: "from", Number: from}), &p)
}

// Lines implements Record.
func (r *record) Lines(ctx context.Context, q api.LineQuery) (api.Page, error) {
	if log := r.files(); log != nil {
		if p, err := log.Lines(ctx, q); readable(err) {
			return p, err
		}
	}
	var p api.Page
	return p, r.c.again(ctx, func() error {
		in, err := r.c.open(ctx, http.MethodGet, r.root+"/lines", api.Encode(&q), nil)
		if err != nil {
			return err
		}
		defer in.Close()
		p = api.Page{}
		if err := gob.NewDecoder(in).Decode(&p); err != nil {
			return lost(ctx, err)
		}
		return nil
	})
}

// Counts implements Record.
func (r *record) Counts(ctx context.Context, q api.CountQuery) (api.Counts, error) {
	if log := r.files(); log != nil {
		if counts, err := log.Counts(ctx, q); readable(err) {
			return counts, err
		}
	}
	var counts api.Counts
	return counts, r.c.get(ctx, r.root+"/counts", api.Encode(&q), &counts)
}

// readable reports whether an error is not about files that this process cannot read.
func readable(err error) bool {
	var file *fs.PathError
	return !errors.As(err, &file)
}

// Search implements Record.
func (r *record) Search(ctx context.Context, q api.SearchQuery, found func(api.Found) error) error {
	if log := r.files(); log != nil {
		if err := log.Search(ctx, q, found); readable(err) {
			return err
		}
	}
	in, err := r.c.open(ctx, http.MethodGet, r.root+"/search", api.Encode(&q), nil)
	if err != nil {
		return err
	}
	defer in.Close()
	for d := json.NewDecoder(in); ; {
		var f api.Found
		if err := d.Decode(&f); err != nil {
			return lost(ctx, err)
		}
		if err := found(f); err != nil || f.Done {
			return err
		}
	}
}

// Text implements Record.
func (r *record) Text(ctx context.Context, q api.TextQuery, w io.Writer) (int64, error) {
	if log := r.files(); log != nil {
		var err error
		if q.From, err = log.Text(ctx, q, w); readable(err) {
			return q.From, err
		}
	}
	if q.End > 0 && q.End <= q.From {
		return q.From, nil
	}
	if r.c.link != nil && q.End > 0 {
		return r.textInParts(ctx, q, w)
	}
	in, err := r.c.open(ctx, http.MethodGet, r.root+"/text", api.Encode(&q), nil)
	if err != nil {
		return q.From, err
	}
	defer in.Close()
	for text := bufio.NewReaderSize(in, 64<<10); ; {
		line, err := text.ReadBytes('\n')
		if err == io.EOF {
			return max(q.From, q.End), nil
		}
		if err != nil {
			return q.From, lost(ctx, err)
		}
		if _, err := w.Write(line); err != nil {
			return q.From, err
		}
	}
}

// partOfText is how many lines of the log are fetched at once from another machine.
const partOfText = 2000

// textInParts is Text over a connection that may be lost: a part is written when all of it is here, so that no line is
// written twice.
func (r *record) textInParts(ctx context.Context, q api.TextQuery, w io.Writer) (int64, error) {
	for q.From < q.End {
		part := q
		part.End = min(q.End, q.From+partOfText)
		var text []byte
		err := r.c.again(ctx, func() error {
			in, err := r.c.open(ctx, http.MethodGet, r.root+"/text", api.Encode(&part), nil)
			if err != nil {
				return err
			}
			defer in.Close()
			if text, err = io.ReadAll(in); err != nil {
				return lost(ctx, err)
			}
			return nil
		})
		if err != nil {
			return q.From, err
		}
		if _, err := w.Write(text); err != nil {
			return q.From, err
		}
		q.From = part.End
	}
	return q.From, nil
}
