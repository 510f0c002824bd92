package ended

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"omnivigil/internal/api"
)

// Sessions of versions without a history have left their state and their samples in files next to the log.

// stateFile reads the state of such a session.
func stateFile(dir string) (*api.Snapshot, error) {
	data, err := os.ReadFile(filepath.Join(dir, "project.json"))
	if err != nil {
		return nil, err
	}
	s := &api.Snapshot{}
	return s, json.Unmarshal(data, s)
}

// samplesFile reads the samples of such a session, from columns of time, unit, cpu, memory and output.
func samplesFile(dir string) (api.SamplePage, error) {
	page := api.SamplePage{Samples: []api.Sample{}}
	f, err := os.Open(filepath.Join(dir, "use.csv"))
	if errors.Is(err, fs.ErrNotExist) {
		return page, nil
	}
	if err != nil {
		return page, fmt.Errorf("read samples: %w", err)
	}
	defer f.Close()
	in := csv.NewReader(f)
	for in.FieldsPerRecord, in.LazyQuotes = -1, true; ; {
		row, err := in.Read()
		if err == io.EOF {
			return page, nil
		}
		if syntax := (*csv.ParseError)(nil); err != nil && !errors.As(err, &syntax) {
			return page, fmt.Errorf("read samples: %w", err)
		}
		if err != nil || len(row) < 5 {
			continue
		}
		at, err := time.Parse(time.RFC3339Nano, row[0])
		if err != nil { // the names of the columns
			continue
		}
		s := api.Sample{At: at, Unit: row[1]}
		s.CPU, _ = strconv.ParseFloat(row[2], 64)
		s.Memory, _ = strconv.ParseInt(row[3], 10, 64)
		s.Output, _ = strconv.ParseInt(row[4], 10, 64)
		page.Samples, page.Next = append(page.Samples, s), at.UnixMilli()
	}
}

// noLog is the log of a session that has been deleted.
type noLog struct{}

var errNoLog = api.Refuse("the log of this session was deleted")

func (noLog) Lines(context.Context, api.LineQuery) (api.Page, error) { return api.Page{}, errNoLog }
func (noLog) Counts(context.Context, api.CountQuery) (api.Counts, error) {
	return api.Counts{}, errNoLog
}
func (noLog) Text(context.Context, api.TextQuery, io.Writer) (int64, error) {
	return 0, errNoLog
}

func (noLog) Search(context.Context, api.SearchQuery, func(api.Found) error) error { return errNoLog }
