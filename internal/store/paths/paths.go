// Package paths says where Omnivigil keeps its own files, by the XDG base directories.
package paths

import (
	"crypto/sha256"
	"encoding/hex"
	"os"
	"os/user"
	"path/filepath"
	"strconv"

	"github.com/adrg/xdg"

	"omnivigil/internal/api/socket"
)

// State is the folder of what has to be remembered: logs, answers, results.
func State() string { return filepath.Join(xdg.StateHome, "omnivigil") }

// Personal is a user's own settings file, which serves all projects.
func Personal() string { return filepath.Join(xdg.ConfigHome, "omnivigil", "config.toml") }

// Logs is the folder in which the sessions of the project with that settings file have their
// logs, each in a folder that is named by when it began.
func Logs(file string) string {
	file = resolved(file)
	return filepath.Join(State(), "logs", filepath.Base(filepath.Dir(file))+"-"+short(file))
}

// Results is the folder in which a project's tests and findings are remembered.
func Results(file string) string { return filepath.Join(State(), "results", filepath.Base(Logs(file))) }

// Typed is the folder of the settings of commands that were typed in a folder, each in a folder
// of its own.
func Typed(folder string) string {
	folder = resolved(folder)
	return filepath.Join(State(), "typed", filepath.Base(folder)+"-"+short(folder))
}

// TypedFile is the settings file of a command that was typed in a folder.
func TypedFile(folder, settings string) string {
	return filepath.Join(Typed(folder), filepath.Base(resolved(folder))+"-"+short(settings), "command.toml")
}

// resolved is the path of a file, without links where they can be followed.
func resolved(file string) string {
	if abs, err := filepath.Abs(file); err == nil {
		file = abs
	}
	if resolved, err := filepath.EvalSymlinks(file); err == nil {
		file = resolved
	}
	return file
}

// short tells texts apart.
func short(text string) string {
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:4])
}

// Place returns where the project with that settings file meets its faces.
func Place(file string) (socket.Place, error) {
	return socket.PlaceOf(file, os.Getenv("XDG_RUNTIME_DIR"), State(), locks())
}

// locks is the folder of the locks of all of this user's projects. It depends on nothing that the environment
// says, so that there is one supervisor for a project: it is below the home folder that the system knows of.
func locks() string {
	if u, err := user.LookupId(strconv.Itoa(os.Getuid())); err == nil && filepath.IsAbs(u.HomeDir) {
		folder := filepath.Join(u.HomeDir, ".local", "state", "omnivigil", "locks")
		if os.MkdirAll(folder, 0o700) == nil {
			return folder
		}
	}
	return filepath.Join("/tmp", "omnivigil-"+strconv.Itoa(os.Getuid()), "locks")
}
