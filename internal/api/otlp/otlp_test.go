package otlp

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.opentelemetry.io/collector/pdata/ptrace"

	"omnivigil/internal/api"
)

// TestOf describes a ripple, and reads that as a collector does.
func TestOf(t *testing.T) {
	noon := time.Date(2030, 5, 4, 12, 0, 0, 0, time.UTC)
	at := func(ms int) time.Time { return noon.Add(time.Duration(ms) * time.Millisecond) }
	about := api.About{Name: "Saltmarsh Ferries", Session: "20300504-115900.000", Root: "/srv/sea", Supervisor: 4711}
	r := &api.Ripple{
		ID: 7, Cause: api.Cause{Kind: "change"}, Since: at(0), RestAt: at(900), Files: 2, Outcome: api.EndedBroken,
		Title: "fares.csv and 1 more", Detail: "tests failed", Runs: []*api.RunRef{
			{Unit: "fares", Number: 3, Because: "fares.csv changed", Spans: []api.Span{
				{Phase: "debounce", From: at(0), To: at(150)}, {Phase: "running", From: at(150), To: at(400)},
			}},
			{Unit: "tests", Number: 2, Failed: true, Spans: []api.Span{
				{Phase: "waiting", From: at(150), To: at(400), On: "fares"},
				{Phase: "setup", From: at(400), To: at(500), Step: "npm ci"},
				{Phase: "running", From: at(500)},
			}},
			{Unit: "pages", Number: 1, Pass: 4},
		},
	}
	data, err := json.Marshal(Of(about, r))
	require.NoError(t, err)
	read, err := (&ptrace.JSONUnmarshaler{}).UnmarshalTraces(data)
	require.NoError(t, err)
	require.Equal(t, 9, read.SpanCount())
	resource := read.ResourceSpans().At(0)
	name, _ := resource.Resource().Attributes().Get("service.name")
	assert.Equal(t, "Saltmarsh Ferries", name.AsString())
	spans := resource.ScopeSpans().At(0).Spans()
	byID, names := map[string]ptrace.Span{}, map[string]ptrace.Span{}
	for i := range spans.Len() {
		span := spans.At(i)
		require.False(t, span.SpanID().IsEmpty())
		require.NotContains(t, byID, span.SpanID().String())
		byID[span.SpanID().String()], names[span.Name()] = span, span
		assert.Equal(t, spans.At(0).TraceID(), span.TraceID())
		assert.Equal(t, ptrace.SpanKindInternal, span.Kind())
		assert.LessOrEqual(t, span.StartTimestamp(), span.EndTimestamp())
	}
	root := spans.At(0)
	assert.True(t, root.ParentSpanID().IsEmpty())
	assert.Equal(t, r.Title, root.Name())
	assert.Equal(t, ptrace.StatusCodeError, root.Status().Code())
	assert.Equal(t, "tests failed", root.Status().Message())
	files, _ := root.Attributes().Get("omnivigil.ripple.files")
	assert.Equal(t, int64(2), files.Int())
	for _, unit := range []string{"fares", "tests", "pages"} {
		assert.Equal(t, root.SpanID(), names[unit].ParentSpanID(), unit)
	}
	assert.Equal(t, ptrace.StatusCodeOk, names["fares"].Status().Code())
	assert.Equal(t, ptrace.StatusCodeError, names["tests"].Status().Code())
	assert.Equal(t, at(900), names["tests"].EndTimestamp().AsTime(), "it had not ended")
	assert.Equal(t, names["tests"].SpanID(), names["waiting"].ParentSpanID())
	on, _ := names["waiting"].Attributes().Get("omnivigil.waiting_for")
	assert.Equal(t, "fares", on.AsString())

	// A process that traces itself joins the span of its run.
	assert.Equal(t, "00-"+root.TraceID().String()+"-"+names["fares"].SpanID().String()+"-01",
		Parent(about.Session, 7, "fares", 3))
	assert.NotEqual(t, Parent(about.Session, 7, "fares", 3), Parent(about.Session, 8, "fares", 3))
}
