//go:build race

package tui

// withRace is true under the race detector, where tests draw fewer random screens.
const withRace = true
