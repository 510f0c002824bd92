package lsp

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"go.lsp.dev/protocol"

	"omnivigil/internal/api"
)

// folder is a folder of the editor, and its project if that is running. The server's lock guards project and marks.
type folder struct {
	server *server
	dir    string // as the editor names it
	real   string // without symbolic links, as the project names it
	stop   func()

	project api.Project // nil: it is not running
	marks   []mark
	word    api.VerdictWord // that was shown last
}

// retry is how often a project is looked for that is not running.
const retry = 2 * time.Second

// follow follows the folder's project, whenever it is running, until the context is done.
func (f *folder) follow(ctx context.Context) {
	for ctx.Err() == nil {
		f.followOnce(ctx)
		f.set(nil, nil)
		select {
		case <-time.After(retry):
		case <-ctx.Done():
		}
	}
}

// followOnce follows the project until it has ended.
func (f *folder) followOnce(ctx context.Context) {
	s := f.server
	file, err := s.projects.Of(f.dir)
	if err != nil || !s.claim(file, f) {
		return
	}
	defer s.release(file)
	project, closes, err := s.projects.Connect(ctx, file)
	if err != nil {
		return
	}
	defer closes()
	seen := ""
	project.Follow(ctx, api.Face{Kind: "editor", PID: os.Getpid()}, func(snap *api.Snapshot) error {
		f.tell(snap.Verdict)
		if now := version(snap); now != seen {
			seen = now
			marks, err := marksOf(ctx, project, snap)
			if err != nil {
				return err
			}
			for i, m := range marks {
				marks[i].file = f.named(m.file)
			}
			f.set(project, marks)
		}
		return nil
	})
}

// claim reports whether a folder may follow a project: no other folder of the editor does.
func (s *server) claim(file string, f *folder) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.followers[file] != nil {
		return false
	}
	s.followers[file] = f
	return true
}

func (s *server) release(file string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.followers, file)
}

// named returns a path as the editor names it, which may have opened the folder through a symbolic link.
func (f *folder) named(file string) string {
	if inside, err := filepath.Rel(f.real, file); err == nil && filepath.IsLocal(inside) {
		return filepath.Join(f.dir, inside)
	}
	return file
}

// set sets what the folder shows.
func (f *folder) set(project api.Project, marks []mark) {
	f.server.mu.Lock()
	f.project, f.marks = project, marks
	f.server.mu.Unlock()
	f.server.publish()
}

// version changes whenever findings, tests, or how current they are may have changed.
func version(snap *api.Snapshot) string {
	var b strings.Builder
	for _, u := range snap.Units {
		fmt.Fprintf(&b, "%s %d %d %d %s %t %+v %s;", u.Name, u.Run.Number, u.Pass.Number, u.Run.EndedAt.UnixNano(),
			u.Freshness, u.Queued, u.Report.Counts, u.Narrowed)
	}
	return b.String()
}

// tell shows the verdict when its word has changed. What is still moving is not worth a message.
func (f *folder) tell(v api.Verdict) {
	if v.Word == f.word || v.Word == api.VerdictUpdating {
		return
	}
	first := f.word == ""
	f.word = v.Word
	if first && v.Word == api.VerdictCurrent {
		return
	}
	kind := protocol.MessageTypeInfo
	if v.Word == api.VerdictBroken || v.Word == api.VerdictStale {
		kind = protocol.MessageTypeWarning
	}
	f.server.say(kind, strings.ToUpper(string(v.Word))+"  "+v.Text)
}
