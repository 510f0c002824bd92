// Package sarif has the part of SARIF 2.1.0 (docs.oasis-open.org/sarif/sarif/v2.1.0) that findings need: to read what
// tools write, and to write what they said. Properties that it does not name are ignored when read. The names are those
// of the standard.
package sarif

import (
	"encoding/json"
	"fmt"
	"io"
)

const (
	version = "2.1.0"
	schema  = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/os/schemas/sarif-schema-2.1.0.json"
)

// Log is a whole file (section 3.13).
type Log struct {
	Version string `json:"version"`
	Schema  string `json:"$schema,omitempty"`
	Runs    []*Run `json:"runs"`
}

// Run is what one tool has found in one go (3.14).
type Run struct {
	Tool    Tool      `json:"tool"`
	Results []*Result `json:"results"`
}

// Tool names who found it (3.18).
type Tool struct {
	Driver Driver `json:"driver"`
}

// Driver is the tool's main part (3.19).
type Driver struct {
	Name  string `json:"name"`
	Rules []Rule `json:"rules,omitempty"`
}

// Rule is a kind of problem, a reportingDescriptor (3.49).
type Rule struct {
	ID      string         `json:"id"`
	Default *Configuration `json:"defaultConfiguration,omitempty"`
}

// Configuration says how much a rule's results matter (3.50).
type Configuration struct {
	Level string `json:"level,omitempty"`
}

// Result is one finding (3.27). Level is "error", "warning", "note" or "none"; empty: as its rule says.
type Result struct {
	RuleID       string            `json:"ruleId,omitempty"`
	Kind         string            `json:"kind,omitempty"`
	Level        string            `json:"level,omitempty"`
	Message      Message           `json:"message"`
	Locations    []Location        `json:"locations,omitempty"`
	Suppressions []json.RawMessage `json:"suppressions,omitempty"`
}

// Message is text for people (3.11).
type Message struct {
	Text string `json:"text"`
}

// Location is where a result is (3.28).
type Location struct {
	Physical *Physical `json:"physicalLocation,omitempty"`
}

// Physical is a place in a file (3.29).
type Physical struct {
	Artifact Artifact `json:"artifactLocation"`
	Region   *Region  `json:"region,omitempty"`
}

// Artifact is a file (3.4).
type Artifact struct {
	URI string `json:"uri,omitempty"`
}

// Region is a part of a file; lines and columns count from 1, and 0 is not known (3.30).
type Region struct {
	StartLine   int `json:"startLine,omitempty"`
	StartColumn int `json:"startColumn,omitempty"`
}

// Read returns the log in data.
func Read(data []byte) (*Log, error) {
	log := &Log{}
	if err := json.Unmarshal(data, log); err != nil {
		return nil, fmt.Errorf("read SARIF: %w", err)
	}
	return log, nil
}

// Write writes runs as a whole file.
func Write(w io.Writer, runs []*Run) error {
	if runs == nil {
		runs = []*Run{}
	}
	out := json.NewEncoder(w)
	out.SetEscapeHTML(false)
	out.SetIndent("", "  ")
	return out.Encode(Log{Version: version, Schema: schema, Runs: runs})
}

// AddRule has the run's tool know a rule.
func (r *Run) AddRule(id string) {
	for _, known := range r.Tool.Driver.Rules {
		if known.ID == id {
			return
		}
	}
	r.Tool.Driver.Rules = append(r.Tool.Driver.Rules, Rule{ID: id})
}

// Level returns how much a result of the run matters: what it says itself, or else its rule; empty where neither does.
func (r *Run) Level(of *Result) string {
	if of.Level != "" {
		return of.Level
	}
	for _, rule := range r.Tool.Driver.Rules {
		if rule.ID == of.RuleID && rule.Default != nil {
			return rule.Default.Level
		}
	}
	return ""
}
