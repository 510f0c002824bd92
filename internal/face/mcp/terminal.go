package mcp

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"omnivigil/internal/api"
)

// screen returns the text of a unit's terminal.
func (t *tools) screen(ctx context.Context, in oneUnit) (string, error) {
	p, err := t.connect(ctx)
	if err != nil {
		return "", err
	}
	screen, err := p.Screen(ctx, in.Unit)
	if err != nil {
		return "", err
	}
	var w words
	state := "now"
	if screen.Ended {
		state = "as it was left; the run has ended"
	}
	w.add(
		"%s run %d, %d columns, %d rows, %s; the cursor is in row %d, column %d",
		screen.Unit,
		screen.Run,
		screen.Size.Cols,
		screen.Size.Rows,
		state,
		screen.Cursor.Row+1,
		screen.Cursor.Col+1,
	)
	if screen.Ask != nil {
		w.add("it waits for %s", screen.Ask.For())
	}
	for _, line := range screen.Lines {
		var text strings.Builder
		for _, part := range line.Parts {
			text.WriteString(part.Text)
		}
		w.add("%s", strings.TrimRight(text.String(), " "))
	}
	return strings.TrimRight(w.String(), "\n") + "\n", nil
}

// typeInto types into a unit's terminal, if the user allows it.
func (t *tools) typeInto(ctx context.Context, in typed) (string, error) {
	switch {
	case !t.mayType():
		return "", errors.New(
			"the person has not allowed assistants to type into terminals: assistants_may_type = true in their own " +
				"settings does; ask them to answer it themselves",
		)
	case in.Text == "" && len(in.Keys) == 0:
		return "", errors.New("give a text or keys")
	}
	p, err := t.connect(ctx)
	if err != nil {
		return "", err
	}
	input := api.Input{Unit: in.Unit, Face: os.Getpid(), Text: in.Text, Keys: in.Keys}
	if in.Text != "" && !in.Plain {
		input.Keys = append([]string{"enter"}, in.Keys...)
	}
	if err := p.Input(ctx, input); err != nil {
		return "", err
	}
	return fmt.Sprintf("Typed into %s. Call screen to see what it shows now.", in.Unit), nil
}
