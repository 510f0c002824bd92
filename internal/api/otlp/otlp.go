// Package otlp describes ripples as traces in the format of OpenTelemetry (OTLP 1.10, in JSON): a ripple is a trace,
// each run a span in it, with a span for each part of its time. Identifiers follow from the session, so that all
// programs which describe a ripple agree. Start reading at Of.
package otlp

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strconv"
	"time"

	"omnivigil/internal/api"
)

// Traces is what an exporter sends: ExportTraceServiceRequest. Its JSON form is that of OTLP: identifiers are
// hexadecimal, enumerations are numbers, and 64-bit integers are strings.
type Traces struct {
	ResourceSpans []ResourceSpans `json:"resourceSpans"`
}

// ResourceSpans are the spans of one project.
type ResourceSpans struct {
	Resource   Resource     `json:"resource"`
	ScopeSpans []ScopeSpans `json:"scopeSpans"`
}

// Resource is what has made spans.
type Resource struct {
	Attributes []Attribute `json:"attributes"`
}

// ScopeSpans are spans with the program that describes them.
type ScopeSpans struct {
	Scope struct {
		Name string `json:"name"`
	} `json:"scope"`
	Spans []Span `json:"spans"`
}

// Span is a part of a trace.
type Span struct {
	TraceID    string      `json:"traceId"`
	SpanID     string      `json:"spanId"`
	Parent     string      `json:"parentSpanId,omitempty"`
	Name       string      `json:"name"`
	Kind       int         `json:"kind"`
	Start      string      `json:"startTimeUnixNano"`
	End        string      `json:"endTimeUnixNano"`
	Attributes []Attribute `json:"attributes,omitempty"`
	Status     Status      `json:"status"`
}

// Status is how what a span describes has ended.
type Status struct {
	Code    int    `json:"code,omitempty"`
	Message string `json:"message,omitempty"`
}

// The values of enumerations (trace.proto of opentelemetry-proto).
const (
	kindInternal = 1
	statusOK     = 1
	statusError  = 2
)

// Attribute is a named value.
type Attribute struct {
	Key   string `json:"key"`
	Value Value  `json:"value"`
}

// Value is a text or a number.
type Value struct {
	Text   *string `json:"stringValue,omitempty"`
	Number *string `json:"intValue,omitempty"`
}

func text(key, value string) Attribute { return Attribute{key, Value{Text: &value}} }

func number(key string, value int) Attribute {
	n := strconv.Itoa(value)
	return Attribute{key, Value{Number: &n}}
}

// identifier returns so many bytes that follow from values, in hexadecimal digits.
func identifier(size int, values ...any) string {
	sum := sha256.Sum256(fmt.Appendf(nil, "%q", values))
	return hex.EncodeToString(sum[:size])
}

const traceSize, spanSize = 16, 8 // bytes

func traceOf(session string, ripple int) string { return identifier(traceSize, session, ripple) }

func runOf(session string, ripple int, unit string, run, pass int) string {
	return identifier(spanSize, session, ripple, unit, run, pass)
}

// Parent is the value of TRACEPARENT for the processes of a run (W3C Trace Context, version 00): what they trace
// themselves is a part of its span.
func Parent(session string, ripple int, unit string, run int) string {
	return "00-" + traceOf(session, ripple) + "-" + runOf(session, ripple, unit, run, 0) + "-01"
}

// Of describes a ripple that has come to rest.
func Of(about api.About, r *api.Ripple) Traces {
	session := about.Session
	root := Span{
		TraceID: traceOf(session, r.ID), SpanID: identifier(spanSize, session, r.ID), Name: r.Title, Kind: kindInternal,
		Start: nanoseconds(r.Since), End: nanoseconds(r.RestAt), Status: Status{Code: statusOK},
		Attributes: []Attribute{
			// The semantic conventions for CI/CD are the nearest to what a ripple is.
			text("cicd.pipeline.name", about.Name), text("cicd.pipeline.run.id", fmt.Sprintf("%s/%d", session, r.ID)),
			text("cicd.pipeline.result", result(r.Outcome == api.EndedCurrent)),
			text("omnivigil.ripple.cause", r.Cause.Kind), text("omnivigil.ripple.outcome", string(r.Outcome)),
			number("omnivigil.ripple.files", r.Files),
		},
	}
	if r.Outcome == api.EndedBroken {
		root.Status = Status{statusError, r.Detail}
	}
	spans := []Span{root}
	for _, run := range r.Runs {
		spans = append(spans, spansOf(session, root, r.ID, run)...)
	}
	of := ResourceSpans{Resource: Resource{[]Attribute{
		text("service.name", about.Name), text("service.instance.id", session), number("process.pid", about.Supervisor),
		text("process.working_directory", about.Root),
	}}}
	scope := ScopeSpans{Spans: spans}
	scope.Scope.Name = "omnivigil"
	of.ScopeSpans = []ScopeSpans{scope}
	return Traces{[]ResourceSpans{of}}
}

// spansOf are the span of a run and those of its parts.
func spansOf(session string, root Span, ripple int, run *api.RunRef) []Span {
	id := runOf(session, ripple, run.Unit, run.Number, run.Pass)
	of := Span{
		TraceID: root.TraceID, SpanID: id, Parent: root.SpanID, Name: run.Unit, Kind: kindInternal, Start: root.Start,
		End: root.End, Status: Status{Code: statusOK}, Attributes: []Attribute{
			text("cicd.pipeline.task.name", run.Unit), text("cicd.pipeline.task.run.result", result(!run.Failed)),
			number("omnivigil.run", run.Number),
		},
	}
	if run.Pass > 0 {
		of.Attributes = append(of.Attributes, number("omnivigil.pass", run.Pass))
	}
	if run.Because != "" {
		of.Attributes = append(of.Attributes, text("omnivigil.because", run.Because))
	}
	if run.Failed {
		of.Status.Code = statusError
	}
	var parts []Span
	for i, part := range run.Spans {
		end := root.End // it was still going on when the ripple came to rest
		if !part.To.IsZero() {
			end = nanoseconds(part.To)
		}
		span := Span{
			TraceID: root.TraceID, SpanID: identifier(spanSize, id, i), Parent: id,
			Name: part.Phase, Kind: kindInternal,
			Start: nanoseconds(part.From), End: end, Status: Status{Code: statusOK},
		}
		if part.On != "" {
			span.Attributes = append(span.Attributes, text("omnivigil.waiting_for", part.On))
		}
		if part.Step != "" {
			span.Attributes = append(span.Attributes, text("process.command_line", part.Step))
		}
		parts = append(parts, span)
	}
	if len(parts) > 0 {
		of.Start, of.End = parts[0].Start, parts[len(parts)-1].End
	}
	return append([]Span{of}, parts...)
}

func result(well bool) string {
	if well {
		return "success"
	}
	return "failure"
}

// nanoseconds is a time since 1970, as a string.
func nanoseconds(t time.Time) string { return strconv.FormatInt(t.UnixNano(), 10) }
