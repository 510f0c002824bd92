// Package series stores the usage of units over time, for charts, as a CSV file in the directory of a session's log.
//
// A row is written when the figures of a unit have changed, so an idle project writes nothing; a row is valid until
// the unit's next one. The columns are the time (RFC 3339), the unit, the share of one core, the resident bytes, and
// the bytes of output since the session began.
package series

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math"
	"os"
	"path/filepath"
	"strconv"
	"time"
)

// FileName is the name of the file.
const FileName = "use.csv"

var columns = []string{"time", "unit", "cpu", "memory", "output"}

// Sample is what a unit uses from a time on.
type Sample struct {
	At     time.Time
	Unit   string
	CPU    float64 // of one core; 1 is a whole core
	Memory int64   // resident bytes
	Output int64   // bytes written since the session started
}

// Writer writes samples. It is for one goroutine.
type Writer struct {
	file *os.File
	size int64 // of the file
	last map[string]kept
}

// kept is the last row of a unit.
type kept struct {
	Sample
	at time.Time
}

// The file is limited: from freeSize on, each further step of it doubles the minimum time between two rows of a unit,
// so that a unit that is never idle fills it with about 20 MB in a year.
const (
	freeSize   = 8 << 20
	sizeStep   = 1 << 20
	firstPause = 4 * time.Second
)

// pause is the minimum time between two rows of a unit in a file of a size.
func pause(size int64) time.Duration {
	if size < freeSize {
		return 0
	}
	return firstPause << min((size-freeSize)/sizeStep, 30)
}

// Create creates the file in a directory. It is an error if the file exists.
func Create(dir string) (*Writer, error) {
	f, err := os.OpenFile(filepath.Join(dir, FileName), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, fmt.Errorf("make the file of samples: %w", err)
	}
	w := &Writer{file: f, last: map[string]kept{}}
	return w, w.write([][]string{columns})
}

// Close closes the file.
func (w *Writer) Close() error { return w.file.Close() }

func (w *Writer) write(rows [][]string) error {
	var text bytes.Buffer
	out := csv.NewWriter(&text)
	out.WriteAll(rows) // a buffer never fails
	n, err := w.file.Write(text.Bytes())
	if w.size += int64(n); err != nil {
		return fmt.Errorf("write a sample: %w", err)
	}
	return nil
}

// Add writes the units whose figures have changed since their last row. A unit without a sample uses nothing.
func (w *Writer) Add(now time.Time, all map[string]Sample) error {
	var rows [][]string
	add := func(unit string, s Sample) {
		before, has := w.last[unit]
		if !Moved(before.Sample, s) || has && now.Sub(before.at) < pause(w.size) {
			return
		}
		w.last[unit] = kept{s, now}
		rows = append(
			rows,
			[]string{
				now.Format(time.RFC3339Nano),
				unit,
				fmt.Sprintf("%.3f", s.CPU),
				fmt.Sprint(s.Memory),
				fmt.Sprint(s.Output),
			},
		)
	}
	for unit, s := range all {
		add(unit, s)
	}
	for unit, s := range w.last {
		if _, has := all[unit]; !has {
			add(unit, Sample{Output: s.Output})
		}
	}
	if len(rows) == 0 {
		return nil
	}
	return w.write(rows)
}

// Moved reports whether figures differ by more than a hundredth of a core, a twentieth of the memory, or any output.
func Moved(a, b Sample) bool {
	return math.Abs(a.CPU-b.CPU) > 0.01 ||
		math.Abs(float64(a.Memory-b.Memory)) > 0.05*float64(max(a.Memory, b.Memory)) ||
		a.Output != b.Output
}

// maxRead is how many bytes are read at once.
const maxRead = 4 << 20

// Read returns samples from an offset in the file of a directory on, 0 for its beginning, and the offset after them.
// There are none at the end, or if the file does not exist. It reads some thousands at a time.
func Read(dir string, from int64) ([]Sample, int64, error) {
	f, err := os.Open(filepath.Join(dir, FileName))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, from, nil
	}
	if err != nil {
		return nil, from, fmt.Errorf("read samples: %w", err)
	}
	defer f.Close()
	text := make([]byte, maxRead)
	n, err := f.ReadAt(text, max(from, 0))
	if err != nil && err != io.EOF {
		return nil, from, fmt.Errorf("read samples: %w", err)
	}
	text = text[:bytes.LastIndexByte(text[:n], '\n')+1] // the last row may still be being written
	return parse(text), max(from, 0) + int64(len(text)), nil
}

// parse parses rows, and skips those that are none, such as the first.
func parse(text []byte) []Sample {
	in := csv.NewReader(bytes.NewReader(text))
	in.FieldsPerRecord, in.ReuseRecord, in.LazyQuotes = -1, true, true
	var all []Sample
	for {
		row, err := in.Read()
		if err == io.EOF {
			return all
		}
		if err != nil || len(row) < 4 {
			continue
		}
		at, err := time.Parse(time.RFC3339Nano, row[0])
		cpu, err2 := strconv.ParseFloat(row[2], 64)
		memory, err3 := strconv.ParseInt(row[3], 10, 64)
		if err != nil || err2 != nil || err3 != nil {
			continue
		}
		s := Sample{At: at, Unit: row[1], CPU: cpu, Memory: memory}
		if len(row) > 4 {
			s.Output, _ = strconv.ParseInt(row[4], 10, 64)
		}
		all = append(all, s)
	}
}
