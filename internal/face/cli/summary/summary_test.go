package summary

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"omnivigil/internal/api"
)

func TestAccount(t *testing.T) {
	noon := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	ended := func(name string, state api.State, signal string) *api.Unit {
		return &api.Unit{
			Name:  name,
			State: state,
			Run:   api.Run{Number: 2, Exit: &api.Exit{Code: 3, Signal: signal, Text: "exit 3"}},
		}
	}
	suite := ended("harbour", api.Failed, "")
	suite.Report.Trouble = "1 test failing: low tide"
	snap := &api.Snapshot{
		Project: api.About{Name: "Saltmarsh Ferries", Since: noon, Logs: "/logs/ferries"},
		Saves:   []api.Save{{Ripple: 2}, {Ripple: 3}},
		Units: []*api.Unit{
			suite,
			ended("berths", api.Crashed, ""),
			ended("worker", api.Stopped, "KILL"),
			{Name: "spare", State: api.Idle},
			ended("fares", api.Done, ""),
		},
		Status: api.Status{
			Broken: 1,
			Longest: api.Longest{
				ID:      2,
				Title:   "fares.csv",
				Outcome: api.EndedBroken,
				Took:    api.Seconds(3 * time.Second),
			},
		},
	}
	for i := range 40 {
		snap.Units = append(snap.Units, ended(fmt.Sprintf("tide%d", i), api.Stopped, ""))
	}
	assert.Equal(t, `Saltmarsh Ferries ran for 10 min 00 s: 2 saves, 88 runs, 1 ripple ended broken.
The longest from a save to rest: fares.csv, broken after 3.00 s.
broken: harbour (1 test failing: low tide)
broken: berths crashed (exit 3)
killed, as they did not end in time: worker
stopped: tide0, tide1, tide2, tide3, tide4, tide5, tide6, tide7, tide8, tide9, tide10, tide11, tide12, tide13 and 26 more
done: fares
never ran: spare
Logs: /logs/ferries`, strings.Join(accountOf(snap, noon.Add(10*time.Minute)), "\n"))
}
