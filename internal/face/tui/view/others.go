package view

import (
	"context"
	"time"

	"omnivigil/internal/api"
)

// Other is another running project of the user.
type Other struct {
	File  string // the real path of its settings file
	Name  string
	Root  string // its directory
	Word  api.VerdictWord
	Text  string // of the verdict
	Since time.Time
}

// Bad reports whether something of it does not run the code just saved.
func (o Other) Bad() bool { return o.Word == api.VerdictBroken || o.Word == api.VerdictStale }

// others is what the screen knows of the user's other projects.
type others struct {
	ListOthers func(ctx context.Context) []Other // may block; nil: there are none
	Others     []Other                           // when they were listed last
	SwitchTo   string                            // the file of the project to show next; empty: none
	Remote     *Remote                           // where this project runs; nil: on this machine
}
