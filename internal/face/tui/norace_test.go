//go:build !race

package tui

const withRace = false
