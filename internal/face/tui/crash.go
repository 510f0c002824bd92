package tui

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime/debug"
)

// guarded does something that a view has its part in. Should it panic, that is reported and the
// view closed, and the screen continues.
func (r *root) guarded(do func()) {
	defer func() {
		if cause := recover(); cause != nil {
			r.crashed(r.top().name(), cause, debug.Stack())
		}
	}()
	do()
}

// crashFile is the report of a view's panic, in the folder of the log.
const crashFile = "screen-crash.txt"

func (r *root) crashed(name string, cause any, stack []byte) {
	r.notice = fmt.Sprintf("the %s view failed and was closed: this is a bug in omnivigil", name)
	file := filepath.Join(r.snap.Project.Logs, crashFile)
	if err := os.WriteFile(file, fmt.Appendf(nil, "%v\n\n%s", cause, stack), 0o600); err == nil {
		r.notice += "; the report is in " + file
	}
	if r.close(); name == r.stack[0].name() {
		r.stack = []view{newOverview()}
	}
}
