package madeup

import (
	"fmt"
	"time"
)

// Ferries is a month of work on Saltmarsh Ferries, the demo: the timetable becomes slower, a test of the harbour fails
// now and then, and the manifest leaks.
func Ferries(until time.Time) Project {
	return Project{
		Name: "Saltmarsh Ferries", Days: 30, Saves: 60, Until: until, Seed: 4, Loads: 1,
		Units: []Unit{
			{
				Name:   "tides",
				Kind:   "service",
				Took:   350 * time.Millisecond,
				Often:  0.05,
				File:   "tides/harbours.toml",
				Memory: 16 << 20,
			},
			{
				Name:   "berths",
				Kind:   "service",
				Took:   500 * time.Millisecond,
				Often:  0.1,
				File:   "berths/rules.toml",
				Memory: 16 << 20,
			},
			{Name: "tickets", Kind: "service", Took: 400 * time.Millisecond, Often: 0.2, File: "tickets/pages/index.html",
				Memory: 17 << 20},
			{Name: "manifest", Kind: "service", Took: 300 * time.Millisecond, Often: 0, File: "manifest/list.toml",
				Memory: 17 << 20, Change: Change{Day: 22, Grows: 12 << 20}},
			{Name: "fares", Kind: "task", Took: 780 * time.Millisecond, Often: 0.2, Fails: 0.08, File: "fares/fares.csv"},
			{Name: "timetable", Kind: "task", Took: 450 * time.Millisecond, Often: 0.15, Fails: 0.02,
				File: "timetable/sailings.csv", Change: Change{Day: 17, Times: 1.6}},
			{Name: "lint", Kind: "task", Took: 260 * time.Millisecond, Often: 0.3, File: "tickets/style.css"},
			{Name: "harbour", Kind: "suite", Took: 2 * time.Second, Often: 0.4, Fails: 0.05, File: "harbour/expected.toml",
				Tests: 10, Flaky: "tides/the buoy answers in time", Names: []string{
					"berths/water stays under every keel", "berths/as many as planned", "berths/the Grey Heron fits",
					"berths/the Little Tern fits", "tides/Skerry Holm never falls dry", "tides/Little Marram never falls dry",
					"tides/Gannet Point never falls dry", "tides/the range at Gannet Point", "tides/the buoy answers in time",
					"manifest/everybody is on board",
				}},
		},
	}
}

// Year is a year of work on a large project in which nothing changes: twenty units, two hundred saves a day, and a
// suite of two thousand tests.
func Year(until time.Time) Project {
	p := Project{Name: "a large project", Days: 365, Saves: 200, Until: until, Seed: 9, Loads: 2}
	for n := range 10 {
		p.Units = append(
			p.Units,
			Unit{
				Name:   fmt.Sprint("service", n),
				Kind:   "service",
				Took:   time.Second,
				Often:  0.2,
				File:   fmt.Sprintf("service%d.go", n),
				Memory: int64(n+10) << 20,
			},
			Unit{Name: fmt.Sprint("task", n), Kind: "task", Took: time.Duration(n+1) * time.Second, Often: 0.3, Fails: 0.05,
				File: fmt.Sprintf("task%d.go", n)},
		)
	}
	p.Units[19] = Unit{
		Name:  "suite0",
		Kind:  "suite",
		Took:  80 * time.Second,
		Often: 1,
		Fails: 0.02,
		File:  "suite.go",
		Tests: 2000,
	}
	return p
}
