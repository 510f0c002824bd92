package outcomes

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"omnivigil/internal/api"
	"omnivigil/internal/text/location"
)

// TestOnce lists what several units report once, and what differs apart.
func TestOnce(t *testing.T) {
	at := func(unit string, line int, message string, change api.Change) *api.Finding {
		return &api.Finding{Unit: unit, Message: message, Change: change,
			Location: location.Location{File: "berths.go", Line: line}}
	}
	all := []*api.Finding{
		at("build", 3, "low", ""), at("lint", 3, "low", api.NewFinding), at("test", 3, "low", ""),
		at("build", 3, "ebb", ""), at("build", 3, "ebb", ""), at("build", 4, "low", ""),
		at("lint", 4, "low", api.GoneFinding),
	}
	var got []string
	for _, f := range once(all) {
		got = append(got, f.Reporters()+": "+f.Message+" "+string(f.Change))
	}
	want := []string{"lint, build, test: low new", "build: ebb ", "build: ebb ", "build: low ", "lint: low gone"}
	assert.Equal(t, want, got)
	assert.Empty(t, all[1].Also, "others use it, too")
}
