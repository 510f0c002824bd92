// Package home says where Omnivigil keeps files of its own, by the XDG base directories.
package home

import (
	"os"
	"path/filepath"

	"github.com/adrg/xdg"

	"omnivigil/internal/api"
)

// State is the folder of what has to be remembered: logs, answers, results.
func State() string { return filepath.Join(xdg.StateHome, "omnivigil") }

// Place returns where the project with that settings file meets its faces.
func Place(file string) (api.Place, error) {
	return api.PlaceOf(file, os.Getenv("XDG_RUNTIME_DIR"), State())
}
