package record

import (
	"encoding/json"
	"fmt"
	"path/filepath"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/files"
	"omnivigil/internal/results"
	"omnivigil/internal/text/location"
)

// FileOf returns the file of a unit's record in a directory.
func FileOf(dir, unit string) string { return filepath.Join(dir, unit+".json") }

// Keep writes what Marshal has returned, and replaces an earlier file.
func Keep(file string, record []byte) error { return files.KeepCache(file, files.Bytes(record)) }

// Load returns the record in a file.
func Load(file string) (*Record, error) {
	data, err := files.Read(file, results.MaxReport)
	if err != nil {
		return nil, err
	}
	return Unmarshal(data)
}

// kept is what is kept of a record across sessions.
type kept struct {
	Format    int           `json:"format"`
	LastWhole int           `json:"last_whole"`
	LastTook  time.Duration `json:"last_took"`
	Cases     []keptCase    `json:"cases"`
	Findings  []keptFinding `json:"findings"`
}

type keptCase struct {
	Suite    string            `json:"suite"`
	Name     string            `json:"name"`
	Message  string            `json:"message,omitempty"`
	Want     string            `json:"want,omitempty"`
	Got      string            `json:"got,omitempty"`
	Location location.Location `json:"place,omitzero"`
	Output   []string          `json:"output,omitempty"`
	Flaky    bool              `json:"flaky,omitempty"`
	Past     []keptPast        `json:"past"`
}

type keptPast struct {
	Status results.Status `json:"status"`
	Took   time.Duration  `json:"took"`
	Same   bool           `json:"same,omitempty"` // nothing had changed since the result before
	Both   bool           `json:"both,omitempty"`
}

type keptFinding struct {
	results.Finding
	By string `json:"by,omitempty"`
}

// keptFormat is the version of kept.
const keptFormat = 1

// Marshal returns what is kept of the record, as JSON. The output of cases that did not fail is not.
func (r *Record) Marshal() ([]byte, error) {
	k := kept{Format: keptFormat, LastWhole: r.lastWhole, LastTook: r.lastTook}
	for _, t := range r.Cases() {
		c := keptCase{Suite: t.Suite, Name: t.Name, Flaky: t.Flaky}
		if t.Status == results.Failed {
			c.Message, c.Want, c.Got, c.Location, c.Output = t.Message, t.Want, t.Got, t.Location, t.Output
		}
		for i, p := range t.Past {
			c.Past = append(c.Past, keptPast{p.Status, p.Took, i > 0 && t.Past[i-1].Epoch == p.Epoch, p.Both})
		}
		k.Cases = append(k.Cases, c)
	}
	for _, f := range r.findings {
		if f.Change != api.GoneFinding {
			k.Findings = append(k.Findings, keptFinding{f.Finding, f.By})
		}
	}
	return json.Marshal(k)
}

// Unmarshal returns the record of an earlier session. Its runs get numbers below 1.
func Unmarshal(data []byte) (*Record, error) {
	var k kept
	if err := json.Unmarshal(data, &k); err != nil {
		return nil, err
	}
	if k.Format != keptFormat {
		return nil, fmt.Errorf("the results were kept in format %d, not %d", k.Format, keptFormat)
	}
	r := New()
	r.settled = true
	r.lastWhole, r.lastTook = max(0, min(k.LastWhole, maxCases)), k.LastTook
	for _, c := range k.Cases {
		n := len(c.Past)
		if n == 0 || n > maxPast || len(r.cases) >= maxCases {
			continue
		}
		t := &TrackedCase{Case: results.Case{
			Suite: c.Suite, Name: c.Name, Status: c.Past[n-1].Status, Took: c.Past[n-1].Took,
			Message: c.Message, Want: c.Want, Got: c.Got, Location: c.Location, Output: c.Output,
		}, Flaky: c.Flaky}
		if t.Status == results.Failed {
			t.Change = api.StillFailing
		}
		epoch := -n
		for i, p := range c.Past {
			if !p.Same {
				epoch++
			}
			t.Past = append(t.Past, Past{Run: i + 1 - n, Status: p.Status, Took: p.Took, Epoch: epoch, Both: p.Both})
		}
		r.cases[api.CaseName{Suite: c.Suite, Name: c.Name}] = t
		r.written += size(t.Output)
		r.suitesOf[c.Name] = append(r.suitesOf[c.Name], c.Suite)
	}
	for _, f := range k.Findings {
		if len(r.findings) < maxFindings && f.Severity >= results.Note && f.Severity <= results.Error {
			r.findings = append(r.findings, &TrackedFinding{Finding: f.Finding, Change: api.StillThere, By: f.By})
		}
	}
	r.index()
	return r, nil
}
