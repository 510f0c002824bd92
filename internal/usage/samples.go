package usage

import (
	"encoding/csv"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"time"
)

// samples keeps what units take of the machine, for charts: a CSV file in the
// session's log folder with a row whenever a unit's figures have moved, so that an
// idle project writes nothing. Its columns are the time (RFC 3339), the unit, the
// share of one core, and the resident bytes.
type samples struct {
	file *os.File
	last map[string]Use
}

func openSamples(dir string) (*samples, error) {
	f, err := os.OpenFile(filepath.Join(dir, "use.csv"), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, fmt.Errorf("make the file of samples: %w", err)
	}
	s := &samples{f, map[string]Use{}}
	return s, s.write([]string{"time", "unit", "cpu", "memory"})
}

func (s *samples) write(row []string) error {
	w := csv.NewWriter(s.file)
	w.Write(row)
	w.Flush()
	return w.Error()
}

// add writes the units whose figures have moved since they were last written.
func (s *samples) add(now time.Time, uses map[string]Use) error {
	for unit, u := range uses {
		if !moved(s.last[unit], u) {
			continue
		}
		s.last[unit] = u
		row := []string{now.Format(time.RFC3339Nano), unit, fmt.Sprintf("%.3f", u.CPU), fmt.Sprint(u.Memory)}
		if err := s.write(row); err != nil {
			return fmt.Errorf("write a sample: %w", err)
		}
	}
	return nil
}

// moved reports whether figures differ by more than a hundredth of a core or a
// twentieth of the memory.
func moved(a, b Use) bool {
	return math.Abs(a.CPU-b.CPU) > 0.01 || math.Abs(float64(a.Memory-b.Memory)) > 0.05*float64(max(a.Memory, b.Memory))
}
