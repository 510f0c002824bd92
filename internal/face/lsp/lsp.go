// Package lsp is the face for editors: it publishes findings and failing tests of running projects as diagnostics, over
// the Language Server Protocol, version 3.16 (microsoft.github.io/language-server-protocol). It never starts a project.
// Start reading at Serve.
package lsp

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"reflect"
	"slices"
	"sync"
	"sync/atomic"

	"go.lsp.dev/jsonrpc2"
	"go.lsp.dev/protocol"
	"go.lsp.dev/uri"

	"omnivigil/internal/api"
	"omnivigil/internal/text/escape"
)

// Projects finds the running projects of folders. Its functions may be called from any goroutine.
type Projects struct {
	// Of returns the settings file of the project that a directory belongs to.
	Of func(dir string) (file string, err error)

	// Connect connects to a project by its settings file, and returns what ends the connection. It does not block for
	// long. An error tells that the project is not running.
	Connect func(ctx context.Context, file string) (api.Project, func(), error)
}

// Serve talks to an editor until it ends the conversation, the stream is closed or the context is done. It blocks.
func Serve(ctx context.Context, stream io.ReadWriteCloser, version string, projects Projects) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	s := newServer(ctx, stream, version, projects)
	defer s.conn.Close() // which need not end a read that has begun
	s.conn.Go(ctx, func(ctx context.Context, reply jsonrpc2.Replier, r jsonrpc2.Request) error {
		s.handle(ctx, reply, r)
		return nil // the library panics at a second error of another type; a stream that has failed ends by its reader
	})
	select {
	case <-s.conn.Done():
	case <-s.exited:
	case <-ctx.Done():
		return ctx.Err()
	}
	stop()
	s.following.Wait()
	if s.ended.Load() {
		return nil
	}
	return errors.New("the editor has gone without a shutdown")
}

// server is a conversation with an editor.
type server struct {
	ctx       context.Context
	conn      jsonrpc2.Conn
	version   string
	projects  Projects
	following sync.WaitGroup
	ended     atomic.Bool   // the editor has announced the end
	exited    chan struct{} // closed when the editor has asked for the end
	leave     sync.Once
	refreshes bool // the editor asks for lenses again when it is told to

	mu        sync.Mutex
	folders   map[string]*folder               // by directory
	followers map[string]*folder               // which folder follows a project, by its settings file
	edited    map[string]bool                  // files whose open documents differ from them
	shown     map[string][]protocol.Diagnostic // what was published last, by file
}

func newServer(ctx context.Context, stream io.ReadWriteCloser, version string, projects Projects) *server {
	return &server{
		ctx: ctx, conn: jsonrpc2.NewConn(jsonrpc2.NewStream(newOutbox(stream))), version: version, projects: projects,
		folders: map[string]*folder{}, followers: map[string]*folder{}, edited: map[string]bool{},
		shown: map[string][]protocol.Diagnostic{}, exited: make(chan struct{}),
	}
}

// Names of commands that the editor can have executed.
const (
	runTest = "omnivigil.runTest"
	only    = "omnivigil.onlyThisTest"
	widen   = "omnivigil.runAllTests"
	rerun   = "omnivigil.rerun"
	explain = "omnivigil.explain"
)

// handle answers a message.
func (s *server) handle(ctx context.Context, reply jsonrpc2.Replier, r jsonrpc2.Request) error {
	switch r.Method() {
	case protocol.MethodInitialize:
		return take(ctx, reply, r, func(p *protocol.InitializeParams) (any, error) { return s.initialize(p), nil })
	case protocol.MethodShutdown:
		s.ended.Store(true)
		return reply(ctx, nil, nil)
	case protocol.MethodExit:
		s.leave.Do(func() { close(s.exited) })
		return nil
	case protocol.MethodWorkspaceDidChangeWorkspaceFolders:
		return take(ctx, reply, r, func(p *protocol.DidChangeWorkspaceFoldersParams) (any, error) {
			s.changeFolders(p.Event)
			return nil, nil
		})
	case protocol.MethodTextDocumentDidChange, protocol.MethodTextDocumentDidSave, protocol.MethodTextDocumentDidClose:
		return take(ctx, reply, r, func(p *aDocument) (any, error) {
			s.setEdited(p.TextDocument.URI, r.Method() == protocol.MethodTextDocumentDidChange)
			return nil, nil
		})
	case protocol.MethodTextDocumentCodeLens:
		return take(ctx, reply, r, func(p *aDocument) (any, error) { return s.lenses(p.TextDocument.URI), nil })
	case protocol.MethodTextDocumentCodeAction:
		return take(ctx, reply, r, func(p *protocol.CodeActionParams) (any, error) { return s.actions(p), nil })
	case protocol.MethodWorkspaceExecuteCommand:
		return take(ctx, reply, r, func(p *protocol.ExecuteCommandParams) (any, error) { return nil, s.execute(p) })
	case protocol.MethodInitialized, protocol.MethodTextDocumentDidOpen:
		return reply(ctx, nil, nil)
	}
	return jsonrpc2.MethodNotFoundHandler(ctx, reply, r)
}

// aDocument is what matters of messages about a document.
type aDocument struct {
	TextDocument protocol.TextDocumentIdentifier `json:"textDocument"`
}

// take answers a message with what a function makes of its parameters.
func take[P any](ctx context.Context, reply jsonrpc2.Replier, r jsonrpc2.Request, do func(*P) (any, error)) error {
	p := new(P)
	if err := json.Unmarshal(r.Params(), p); err != nil {
		return reply(ctx, nil, fmt.Errorf("%w: %w", jsonrpc2.ErrInvalidParams, err))
	}
	result, err := do(p)
	return reply(ctx, result, err)
}

// initialize begins to follow the projects of the editor's folders, and tells what this server can do.
func (s *server) initialize(p *protocol.InitializeParams) *protocol.InitializeResult {
	folders := p.WorkspaceFolders
	//lint:ignore SA1019 editors without folders send only this
	if root := p.RootURI; len(folders) == 0 && root != "" {
		folders = []protocol.WorkspaceFolder{{URI: string(root)}}
	}
	if w := p.Capabilities.Workspace; w != nil && w.CodeLens != nil {
		s.refreshes = w.CodeLens.RefreshSupport
	}
	s.changeFolders(protocol.WorkspaceFoldersChangeEvent{Added: folders})
	result := &protocol.InitializeResult{ServerInfo: &protocol.ServerInfo{Name: "omnivigil", Version: s.version}}
	c := &result.Capabilities
	c.TextDocumentSync = protocol.TextDocumentSyncOptions{
		OpenClose: true, Change: protocol.TextDocumentSyncKindIncremental, Save: &protocol.SaveOptions{},
	}
	c.CodeLensProvider = &protocol.CodeLensOptions{}
	c.CodeActionProvider = true
	c.ExecuteCommandProvider = &protocol.ExecuteCommandOptions{Commands: []string{runTest, only, widen, rerun, explain}}
	c.Workspace = &protocol.ServerCapabilitiesWorkspace{
		WorkspaceFolders: &protocol.ServerCapabilitiesWorkspaceFolders{Supported: true, ChangeNotifications: true},
	}
	return result
}

// changeFolders follows the projects of added folders, and no longer those of removed ones.
func (s *server) changeFolders(event protocol.WorkspaceFoldersChangeEvent) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, f := range event.Removed {
		if of := s.folders[pathOf(f.URI)]; of != nil {
			of.stop()
			delete(s.folders, of.dir)
		}
	}
	for _, f := range event.Added {
		dir := pathOf(f.URI)
		if dir == "" || s.folders[dir] != nil {
			continue
		}
		of := &folder{server: s, dir: dir}
		if of.real, _ = filepath.EvalSymlinks(dir); of.real == "" {
			of.real = dir
		}
		var ctx context.Context
		ctx, of.stop = context.WithCancel(s.ctx)
		s.folders[dir] = of
		s.following.Go(func() { of.follow(ctx) })
	}
}

// pathOf is the path of a file; empty: the address is not that of a file.
func pathOf(address string) string {
	u, err := uri.Parse(address)
	if err != nil {
		return ""
	}
	return fileOf(u)
}

func fileOf(u uri.URI) (file string) {
	defer func() {
		if recover() != nil { // the library panics at other schemes
			file = ""
		}
	}()
	return u.Filename()
}

// setEdited records whether an open document differs from its file, and marks its diagnostics.
func (s *server) setEdited(document uri.URI, edited bool) {
	file := fileOf(document)
	s.mu.Lock()
	changed := s.edited[file] != edited
	if s.edited[file] = edited; !edited {
		delete(s.edited, file)
	}
	s.mu.Unlock()
	if changed {
		s.publish()
	}
}

// publish publishes the diagnostics of all folders, as far as they have changed.
func (s *server) publish() {
	s.mu.Lock()
	defer s.mu.Unlock()
	now := map[string][]protocol.Diagnostic{}
	for _, f := range s.folders {
		for _, m := range f.marks {
			now[m.file] = append(now[m.file], m.diagnostic(s.edited[m.file]))
		}
	}
	for file := range s.shown {
		if _, still := now[file]; !still {
			now[file] = []protocol.Diagnostic{} // cleared
		}
	}
	changed := false
	for file, all := range now {
		slices.SortFunc(all, compareDiagnostics)
		if len(all)+len(s.shown[file]) == 0 || reflect.DeepEqual(all, s.shown[file]) {
			continue
		}
		changed = true
		s.conn.Notify(s.ctx, protocol.MethodTextDocumentPublishDiagnostics,
			&protocol.PublishDiagnosticsParams{URI: uri.File(file), Diagnostics: all})
		if s.shown[file] = all; len(all) == 0 {
			delete(s.shown, file)
		}
	}
	if changed && s.refreshes {
		s.following.Go(func() { s.conn.Call(s.ctx, protocol.MethodCodeLensRefresh, nil, nil) })
	}
}

// say shows a message in the editor.
func (s *server) say(kind protocol.MessageType, text string) {
	s.conn.Notify(s.ctx, protocol.MethodWindowShowMessage,
		&protocol.ShowMessageParams{Type: kind, Message: plain(text)})
}

// plain is text of the project without control sequences and colors.
func plain(text string) string { return escape.Lines(escape.Strip(text)) }
