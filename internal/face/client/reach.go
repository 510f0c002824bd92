package client

import (
	"context"
	"errors"
	"fmt"
	"os"
	"time"

	"github.com/charmbracelet/x/term"

	"omnivigil/internal/api"
	apiclient "omnivigil/internal/api/client"
	"omnivigil/internal/api/exit"
	"omnivigil/internal/api/socket"
	"omnivigil/internal/output/reader"
	"omnivigil/internal/store/paths"
)

// Connect returns the running project of a settings file. It returns api.ErrNotRunning if it is not running.
func Connect(ctx context.Context, file string) (*apiclient.Client, error) {
	place, err := paths.Place(file)
	if err != nil {
		return nil, err
	}
	return At(ctx, place)
}

// At returns the project at a place, as api.Connect does. Its log is read from files.
func At(ctx context.Context, place socket.Place) (*apiclient.Client, error) {
	c, err := apiclient.Connect(ctx, place)
	if err == nil {
		c.Near = reader.Near
	}
	return c, err
}

// Reach is Connect for commands that require a running project.
func Reach(ctx context.Context, of Settings) (*apiclient.Client, error) {
	there, err := of.Remote()
	if err != nil {
		return nil, err
	}
	if there != nil {
		c, err := apiclient.ConnectOver(ctx, there.Link())
		if err != nil {
			return nil, exit.With(exit.Failed, fmt.Errorf("reach %s: %w", there, err))
		}
		return c, nil
	}
	file, err := of.FindRunning()
	if err != nil {
		return nil, err
	}
	c, err := Connect(ctx, file)
	switch {
	case errors.Is(err, socket.ErrNotRunning):
		return nil, exit.Refuse(
			"omnivigil: the project of %s is not running. Start it with omnivigil start, or with omnivigil start "+
				"--background.",
			file,
		)
	case errors.Is(err, api.ErrSilent):
		return nil, exit.With(exit.TimedOut, err)
	case err != nil:
		return nil, exit.With(exit.Failed, err)
	}
	return c, nil
}

// WaitGone waits until nothing of a project is left, with a timeout, and reports whether that is so.
func WaitGone(place socket.Place, limit time.Duration) bool {
	const look = 5 * time.Millisecond
	for until := time.Now().Add(limit); time.Now().Before(until); time.Sleep(look) {
		if !place.IsLocked() {
			return true
		}
	}
	return false
}

// Seen describes since when a project has been running and which faces are attached.
func Seen(snap *api.Snapshot) string {
	text := fmt.Sprintf("%s, running since %s", snap.Project.Name, snap.Project.Since.Format("15:04:05"))
	switch n := len(snap.Faces); {
	case n == 0 && snap.Background:
		return text + ", in the background; no screen attached"
	case n == 0:
		return text + "; no screen attached"
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

// Colors reports whether the output may have colors.
func Colors() bool { return term.IsTerminal(os.Stdout.Fd()) && os.Getenv("NO_COLOR") == "" }
