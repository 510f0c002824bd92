// Package home says where Omnivigil keeps files of its own, by the XDG base directories.
package home

import (
	"crypto/sha256"
	"encoding/hex"
	"os"
	"path/filepath"

	"github.com/adrg/xdg"

	"omnivigil/internal/api"
)

// State is the folder of what has to be remembered: logs, answers, results.
func State() string { return filepath.Join(xdg.StateHome, "omnivigil") }

// Logs is the folder in which the sessions of the project with that settings file have their
// logs, each in a folder that is named by when it began.
func Logs(file string) string {
	if abs, err := filepath.Abs(file); err == nil {
		file = abs
	}
	if real, err := filepath.EvalSymlinks(file); err == nil {
		file = real
	}
	sum := sha256.Sum256([]byte(file))
	return filepath.Join(State(), "logs", filepath.Base(filepath.Dir(file))+"-"+hex.EncodeToString(sum[:4]))
}

// Place returns where the project with that settings file meets its faces.
func Place(file string) (api.Place, error) {
	return api.PlaceOf(file, os.Getenv("XDG_RUNTIME_DIR"), State())
}
