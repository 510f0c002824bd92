package tui

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime/debug"

	"omnivigil/internal/face/tui/overview"
	"omnivigil/internal/face/tui/view"
)

// guarded calls a function that runs code of a view. If it panics, the panic is reported and the view is closed; the
// screen continues.
func (r *root) guarded(do func()) {
	defer func() {
		if cause := recover(); cause != nil {
			r.crashed(r.Top().Name(), cause, debug.Stack())
		}
	}()
	do()
}

// crashFile is the report of a view's panic, in the directory of the log.
const crashFile = "screen-crash.txt"

func (r *root) crashed(name string, cause any, stack []byte) {
	r.Notice = fmt.Sprintf("the %s view failed and was closed: this is a bug in omnivigil", name)
	file := filepath.Join(r.Snap.Project.Logs, crashFile)
	if err := os.WriteFile(file, fmt.Appendf(nil, "%v\n\n%s", cause, stack), 0o600); err == nil {
		r.Notice += "; the report is in " + file
	}
	if r.Close(); name == r.Stack[0].Name() {
		r.Stack = []view.View{overview.New()}
	}
}
