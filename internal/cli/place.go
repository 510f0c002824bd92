package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"time"

	"omnivigil/internal/api"
)

// placeOf returns where the project with that settings file meets its faces.
func placeOf(file string) (api.Place, error) {
	return api.PlaceOf(file, os.Getenv("XDG_RUNTIME_DIR"), stateDir())
}

// connect returns the running project of these settings. It returns api.ErrNotRunning where
// it does not run.
func connect(ctx context.Context, file string) (*api.Client, error) {
	place, err := placeOf(file)
	if err != nil {
		return nil, err
	}
	return api.Connect(ctx, place)
}

// reach is connect for commands that are of no use without a running project.
func (at location) reach(ctx context.Context) (*api.Client, error) {
	file, err := at.find()
	if err != nil {
		return nil, err
	}
	c, err := connect(ctx, file)
	switch {
	case errors.Is(err, api.ErrNotRunning):
		return nil, refuse("omnivigil: the project of %s does not run. Start it with omnivigil start, or with omnivigil start --background.", file)
	case err != nil:
		return nil, outcome{exitFailed, "omnivigil: " + err.Error()}
	}
	return c, nil
}

// waitGone waits until nothing of a project is left, but not for ever, and reports whether
// that is so.
func waitGone(place api.Place, limit time.Duration) bool {
	const look = 5 * time.Millisecond
	for until := time.Now().Add(limit); time.Now().Before(until); time.Sleep(look) {
		if lock, err := place.TryLock(); err == nil {
			lock.Close()
			return true
		}
	}
	return false
}

// seen says in words since when a project runs and who looks at it.
func seen(snap *api.Snapshot) string {
	text := fmt.Sprintf("%s runs since %s", snap.Project.Name, snap.Project.Since.Format("15:04:05"))
	switch n := len(snap.Faces); {
	case n == 0 && snap.Background:
		return text + ", in the background; nobody looks at it"
	case n == 0:
		return text + "; nobody looks at it"
	}
	text += ", seen by "
	for i, f := range snap.Faces {
		if i > 0 {
			text += ", "
		}
		text += fmt.Sprintf("%s (process %d)", f.Kind, f.PID)
	}
	return text
}
