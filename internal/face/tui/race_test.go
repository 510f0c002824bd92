//go:build race

package tui

// withRace says that the race detector is on: what is drawn by the thousand is drawn less often.
const withRace = true
