// Package projects lists the running projects of this user, and is the command that prints them. Start reading at
// Running.
package projects

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"omnivigil/internal/api"
	apiclient "omnivigil/internal/api/client"
	"omnivigil/internal/api/socket"
	"omnivigil/internal/face/client"
	"omnivigil/internal/store/paths"
	"omnivigil/internal/text/format"
)

// Project is a running project.
type Project struct {
	Place      socket.Place `json:"-"`
	File       string       `json:"file"` // the real path of its settings file
	Name       string       `json:"name"`
	Root       string       `json:"root"`
	Verdict    api.Verdict  `json:"verdict"`
	Since      time.Time    `json:"since"` // when it was started
	Units      int          `json:"units"`
	Enabled    int          `json:"enabled"` // of these
	Faces      []api.Face   `json:"faces"`
	Background bool         `json:"background"`
	Problem    string       `json:"problem,omitempty"` // why nothing else is known of it
}

// patience is how long a project may take to answer.
const patience = 3 * time.Second

// Running returns the running projects, except those of some settings files, in the order of their names. It blocks
// until all have answered, or for three seconds.
func Running(ctx context.Context, except ...string) []Project {
	ctx, stop := context.WithTimeout(ctx, patience)
	defer stop()
	places := slices.DeleteFunc(paths.Running(), func(p socket.Place) bool { return slices.Contains(except, p.File) })
	all := make([]Project, len(places))
	var asking sync.WaitGroup
	for i, place := range places {
		asking.Go(func() { all[i] = ask(ctx, place) })
	}
	asking.Wait()
	all = slices.DeleteFunc(all, func(p Project) bool { return p.File == "" })
	slices.SortFunc(all, func(a, b Project) int {
		return cmp.Or(cmp.Compare(a.Name, b.Name), cmp.Compare(a.File, b.File))
	})
	return all
}

// ask asks a project. Without a file, it has ended meanwhile.
func ask(ctx context.Context, place socket.Place) Project {
	p := Project{Place: place, File: place.File, Root: place.File}
	c, err := apiclient.Connect(ctx, place)
	if errors.Is(err, socket.ErrNotRunning) {
		return Project{}
	}
	if err != nil {
		p.Problem = err.Error()
		return p
	}
	defer c.Close()
	snap, err := c.Snapshot(ctx)
	if err != nil {
		p.Problem = err.Error()
		return p
	}
	p.Name, p.Root, p.Since, p.Verdict = snap.Project.Name, snap.Project.Root, snap.Project.Since, snap.Verdict
	p.Faces, p.Background, p.Units = snap.Faces, snap.Background, len(snap.Units)
	for _, u := range snap.Units {
		if u.Wanted {
			p.Enabled++
		}
	}
	return p
}

// faces describes who sees the project.
func (p Project) faces() string {
	if len(p.Faces) == 0 {
		return "no screen attached"
	}
	counts := map[string]int{}
	var kinds []string
	for _, f := range p.Faces {
		if counts[f.Kind]++; counts[f.Kind] == 1 {
			kinds = append(kinds, f.Kind)
		}
	}
	for i, kind := range kinds {
		kinds[i] = format.Count(counts[kind], kind)
	}
	return "seen by " + strings.Join(kinds, ", ")
}

// Command returns the command.
func Command() *cobra.Command {
	asJSON := false
	c := &cobra.Command{
		Use:   "projects",
		Short: "List your running projects with their verdicts",
		Args:  cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			all := Running(c.Context())
			if asJSON {
				return client.PrintJSON(append([]Project{}, all...))
			}
			if len(all) == 0 {
				fmt.Println("No project is running.")
			}
			Print(all)
			return nil
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

// Print prints projects, with a number each if there are several.
func Print(all []Project) {
	width := 0
	for _, p := range all {
		width = max(width, len([]rune(p.Name)))
	}
	for i, p := range all {
		if p.Problem != "" {
			client.Say(os.Stdout, "%d  %s  does not answer: %s", i+1, p.File, p.Problem)
			continue
		}
		word := strings.ToUpper(string(p.Verdict.Word))
		client.Say(os.Stdout, "%d  %-*s  %-8s  %s", i+1, width, p.Name, word, p.Verdict.Text)
		client.Say(os.Stdout, "   %*s  %s", width, "", p.Root)
		client.Say(os.Stdout, "   %*s  since %s, %d of %s enabled, %s", width, "", format.Moment(p.Since, time.Now()),
			p.Enabled, format.Count(p.Units, "unit"), p.faces())
	}
}
