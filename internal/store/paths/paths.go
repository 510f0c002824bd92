// Package paths determines where Omnivigil keeps its own files, by the XDG base directories.
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

// State is the directory of persistent state: logs, answers, results.
func State() string { return filepath.Join(xdg.StateHome, "omnivigil") }

// Personal is the user's personal settings file.
func Personal() string { return filepath.Join(xdg.ConfigHome, "omnivigil", "config.toml") }

// Logs is the directory of the logs of the project with a settings file, with a directory for each session, named by
// its start time.
func Logs(file string) string {
	file = resolved(file)
	return filepath.Join(State(), "logs", filepath.Base(filepath.Dir(file))+"-"+short(file))
}

// Results is the directory of a project's tests and findings.
func Results(file string) string { return filepath.Join(State(), "results", filepath.Base(Logs(file))) }

// History is the directory of a project's history.
func History(file string) string { return filepath.Join(State(), "history", filepath.Base(Logs(file))) }

// Contents is the directory of the contents that are stored for all projects.
func Contents() string { return filepath.Join(State(), "contents") }

// Typed is the directory of the settings of commands typed in a directory, with a directory for each.
func Typed(folder string) string {
	folder = resolved(folder)
	return filepath.Join(State(), "typed", filepath.Base(folder)+"-"+short(folder))
}

// TypedFile is the settings file of a command typed in a directory.
func TypedFile(folder, settings string) string {
	return filepath.Join(Typed(folder), filepath.Base(resolved(folder))+"-"+short(settings), "command.toml")
}

// resolved is the path of a file, without links if they can be followed.
func resolved(file string) string {
	if abs, err := filepath.Abs(file); err == nil {
		file = abs
	}
	if resolved, err := filepath.EvalSymlinks(file); err == nil {
		file = resolved
	}
	return file
}

// short identifies a text.
func short(text string) string {
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:4])
}

// Place returns where the project with a settings file meets its faces.
func Place(file string) (socket.Place, error) {
	return socket.PlaceOf(file, os.Getenv("XDG_RUNTIME_DIR"), State(), locks())
}

// locks is the directory of the locks of all of this user's projects. It does not depend on the environment, so that
// a project has one supervisor: it is below the home directory that the system has for the user.
func locks() string {
	if u, err := user.LookupId(strconv.Itoa(os.Getuid())); err == nil && filepath.IsAbs(u.HomeDir) {
		folder := filepath.Join(u.HomeDir, ".local", "state", "omnivigil", "locks")
		if os.MkdirAll(folder, 0o700) == nil {
			return folder
		}
	}
	return filepath.Join("/tmp", "omnivigil-"+strconv.Itoa(os.Getuid()), "locks")
}

// Running returns the places of all projects of this user that are running.
func Running() []socket.Place { return socket.Running(locks()) }
