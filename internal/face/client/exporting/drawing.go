package exporting

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"time"

	"omnivigil/internal/api"
	apiclient "omnivigil/internal/api/client"
	"omnivigil/internal/api/exit"
	"omnivigil/internal/face/client"
	"omnivigil/internal/face/draw"
	"omnivigil/internal/face/timeline"
	"omnivigil/internal/text/suggest"
)

// shown is what a drawing is made from: a running project, or a session that has ended.
type shown struct {
	*api.Snapshot
	from source
	now  time.Time // of an ended session: its end
}

// show reads what is to be drawn, for the requested units.
func (x *exporting) show() (*shown, error) {
	from, snap, err := x.source()
	if err != nil {
		return nil, err
	}
	s := &shown{Snapshot: snap, from: from, now: time.Now()}
	if _, running := from.(*apiclient.Client); !running {
		s.now = s.At
	}
	if err := s.only(x.units); err != nil {
		s.from.Close()
		return nil, err
	}
	return s, nil
}

// allSamples are all samples of a session.
func allSamples(p api.Record) ([]api.Sample, error) {
	var all []api.Sample
	for from := int64(0); ; {
		page, err := p.Samples(context.Background(), from)
		if err != nil || len(page.Samples) == 0 {
			return all, err
		}
		all, from = append(all, page.Samples...), page.Next
	}
}

// only removes all units except some, and those of groups.
func (s *shown) only(names []string) error {
	if len(names) == 0 {
		return nil
	}
	wanted := map[string]bool{}
	for _, name := range names {
		switch group, isGroup := s.Project.Groups[name]; {
		case isGroup:
			for _, member := range group {
				wanted[member] = true
			}
		case s.Unit(name) != nil:
			wanted[name] = true
		default:
			return exit.Refuse("omnivigil: --units: there is no unit or group %q; %s", name,
				suggest.Hint(name, s.UnitNames()))
		}
	}
	snap := *s.Snapshot
	snap.Units = slices.DeleteFunc(slices.Clone(snap.Units), func(u *api.Unit) bool { return !wanted[u.Name] })
	s.Snapshot = &snap
	return nil
}

// axis is the range of time to draw.
func (x *exporting) axis(s *shown) timeline.Axis {
	from := s.Project.Since
	if x.span > 0 {
		from = s.now.Add(-x.span)
	}
	return draw.AxisOf(from, s.now)
}

// write writes a drawing, or its data.
func (x *exporting) write(data any, page func() (*draw.Page, error)) error {
	format := x.format
	if format == "" && filepath.Ext(x.file) != "" {
		format = filepath.Ext(x.file)[1:]
	}
	if format == "" {
		format = "svg"
	}
	if format != "json" && format != "csv" && !slices.Contains(draw.Formats, format) {
		return exit.Refuse("omnivigil: --format must be svg, pdf or json, of charts also csv, not %q", format)
	}
	return x.into(func(w io.Writer) error {
		switch rows, tabular := data.([][]string); {
		case format == "csv" && tabular:
			return csv.NewWriter(w).WriteAll(rows)
		case format == "csv":
			return exit.Refuse("omnivigil: only charts are written as csv")
		case format == "json":
			out := json.NewEncoder(w)
			out.SetIndent("", "  ")
			out.SetEscapeHTML(false)
			return out.Encode(data)
		}
		p, err := page()
		if err != nil {
			return err
		}
		return p.Write(w, format)
	})
}

// into writes to the requested file, or prints.
func (x *exporting) into(write func(io.Writer) error) error {
	if x.file == "" {
		return write(os.Stdout)
	}
	f, err := os.OpenFile(x.file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return exit.Refuse("omnivigil: %v", err)
	}
	err = write(f)
	if closed := f.Close(); err == nil {
		err = closed
	}
	if err != nil {
		os.Remove(x.file)
		return exit.With(exit.Failed, err)
	}
	fmt.Printf("written to %s\n", x.file)
	return nil
}

func (x *exporting) lanes() error {
	s, err := x.show()
	if err != nil {
		return err
	}
	defer s.from.Close()
	return x.write(s.Units, func() (*draw.Page, error) { return draw.Lanes(s.Snapshot, x.axis(s), time.Now()) })
}

func (x *exporting) rippleDrawing() error {
	s, err := x.show()
	if err != nil {
		return err
	}
	defer s.from.Close()
	r, err := client.RippleNamed(s.Snapshot, x.ripple)
	if err != nil {
		return err
	}
	return x.write(r, func() (*draw.Page, error) { return draw.Ripple(s.Project.Name, r, s.now, time.Now()) })
}

// link is a line of the map, for JSON.
type link struct {
	From    string `json:"from"`
	To      string `json:"to"`
	Follows bool   `json:"follows"` // otherwise To needs From
}

func (x *exporting) mapDrawing() error {
	s, err := x.show()
	if err != nil {
		return err
	}
	defer s.from.Close()
	m := timeline.MapOf(s.Snapshot, timeline.MapOptions{})
	links := []link{}
	for _, k := range m.Links {
		links = append(links, link{m.Boxes[k.From].Name(), m.Boxes[k.To].Name(), k.Follows})
	}
	return x.write(links, func() (*draw.Page, error) { return draw.Map(s.Snapshot, time.Now()) })
}

func (x *exporting) charts() error {
	if x.days > 0 {
		return x.dayCharts()
	}
	for _, name := range x.measures {
		if !slices.Contains(timeline.Measures, timeline.Measure(name)) {
			return exit.Refuse("omnivigil: --measures: there is no measure %q; there are %v", name, timeline.Measures)
		}
	}
	s, err := x.show()
	if err != nil {
		return err
	}
	defer s.from.Close()
	all, err := allSamples(s.from)
	if err != nil {
		return exit.With(exit.Failed, err)
	}
	var series timeline.Series
	series.Add(all)
	a := x.axis(s)
	graphs := map[timeline.Measure][]timeline.Graph{}
	rows := [][]string{{"measure", "unit", "time", "value"}}
	for _, measure := range timeline.Measures {
		if len(x.measures) > 0 && !slices.Contains(x.measures, string(measure)) {
			continue
		}
		graphs[measure] = timeline.ChartOf(measure, s.Snapshot, &series, a, s.now)
		for _, g := range graphs[measure] {
			rows = append(rows, graphRows(measure, g, a)...)
		}
	}
	return x.write(rows, func() (*draw.Page, error) { return draw.Charts(s.Snapshot, graphs, a, time.Now()) })
}

// graphRows are the values of a graph as rows, one for each column with a value.
func graphRows(measure timeline.Measure, g timeline.Graph, a timeline.Axis) [][]string {
	var rows [][]string
	for i, v := range g.Values {
		if v == v { // not NaN
			rows = append(
				rows,
				[]string{
					string(measure),
					g.Name,
					a.Time(i).Format(time.RFC3339Nano),
					strconv.FormatFloat(v, 'g', -1, 64),
				},
			)
		}
	}
	return rows
}
