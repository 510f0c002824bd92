// Package sarif has the part of SARIF 2.1.0 (docs.oasis-open.org/sarif/sarif/v2.1.0) that findings need: to read the
// files of tools, and to write findings. Other properties are ignored when read. The names are those of the standard.
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

// Run is the results of one run of a tool (3.14).
type Run struct {
	Tool    Tool      `json:"tool"`
	Results []*Result `json:"results"`
}

// Tool is the tool (3.18).
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

// Configuration is the severity of a rule's results (3.50).
type Configuration struct {
	Level string `json:"level,omitempty"`
}

// Result is one finding (3.27). Level is "error", "warning", "note" or "none"; empty: the rule's level.
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

// Location is the location of a result (3.28).
type Location struct {
	Physical *Physical `json:"physicalLocation,omitempty"`
}

// Physical is a location in a file (3.29).
type Physical struct {
	Artifact Artifact `json:"artifactLocation"`
	Region   *Region  `json:"region,omitempty"`
}

// Artifact is a file (3.4).
type Artifact struct {
	URI string `json:"uri,omitempty"`
}

// Region is a part of a file; lines and columns count from 1, and 0 is unknown (3.30).
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

// Write writes runs as a complete file.
func Write(w io.Writer, runs []*Run) error {
	if runs == nil {
		runs = []*Run{}
	}
	out := json.NewEncoder(w)
	out.SetEscapeHTML(false)
	out.SetIndent("", "  ")
	return out.Encode(Log{Version: version, Schema: schema, Runs: runs})
}

// AddRule adds a rule to the run's tool.
func (r *Run) AddRule(id string) {
	for _, known := range r.Tool.Driver.Rules {
		if known.ID == id {
			return
		}
	}
	r.Tool.Driver.Rules = append(r.Tool.Driver.Rules, Rule{ID: id})
}

// Level returns the level of a result of the run: its own, or else its rule's; empty: neither has one.
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
