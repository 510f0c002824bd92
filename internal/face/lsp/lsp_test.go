package lsp

import (
	"context"
	"encoding/json"
	"errors"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"
	"unicode/utf16"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.lsp.dev/jsonrpc2"
	"go.lsp.dev/protocol"
	"go.lsp.dev/uri"

	"omnivigil/internal/api"
	"omnivigil/internal/text/location"
)

// project is a running project as far as an editor sees it.
type project struct {
	api.Project
	snaps chan *api.Snapshot

	mu       sync.Mutex
	findings []api.Finding
	cases    []api.Case
	asked    []api.Request
}

func (p *project) Follow(ctx context.Context, _ api.Face, show func(*api.Snapshot) error) error {
	for {
		select {
		case snap, open := <-p.snaps:
			if !open {
				return nil
			}
			if err := show(snap); err != nil {
				return err
			}
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

func (p *project) Findings(context.Context, api.ResultQuery) (api.FindingPage, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return api.FindingPage{Findings: p.findings}, nil
}

func (p *project) Cases(context.Context, api.ResultQuery) (api.CasePage, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return api.CasePage{Cases: p.cases}, nil
}

func (p *project) Do(_ context.Context, r api.Request) (api.Answer, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.asked = append(p.asked, r)
	return api.Answer{}, nil
}

func (p *project) Wait(context.Context, api.WaitQuery) (api.Waited, error) { return api.Waited{}, nil }

func (p *project) Explain(_ context.Context, unit string) (api.Explanation, error) {
	return api.Explanation{}, &api.Refusal{Text: "there is no unit " + unit}
}

func (p *project) requests() []api.Request {
	p.mu.Lock()
	defer p.mu.Unlock()
	return append([]api.Request(nil), p.asked...)
}

// becomes shows a state of the project: a run of its unit, with what it has found.
func (p *project) becomes(run int, freshness api.Freshness, word api.VerdictWord,
	found []api.Finding, failing []api.Case) {
	p.mu.Lock()
	p.findings, p.cases = found, failing
	p.mu.Unlock()
	unit := &api.Unit{Name: "check", Freshness: freshness}
	unit.Run.Number = run
	p.snaps <- &api.Snapshot{Verdict: api.Verdict{Word: word, Text: "check\x1b[2J: says so"}, Units: []*api.Unit{unit}}
}

// editor talks to a server about the folders of its workspace.
type editor struct {
	t    *testing.T
	conn jsonrpc2.Conn
	told chan jsonrpc2.Request // what the server sends
}

func open(t *testing.T, running map[string]*project, folders ...string) *editor {
	ours, its := net.Pipe()
	served := make(chan error, 1)
	go func() {
		served <- Serve(context.Background(), its, "1.0", Projects{
			Of: func(dir string) (string, error) { return filepath.EvalSymlinks(strings.TrimSuffix(dir, "/web")) },
			Connect: func(_ context.Context, file string) (api.Project, func(), error) {
				if p := running[file]; p != nil {
					return p, func() {}, nil
				}
				return nil, nil, errors.New("not running")
			},
		})
	}()
	e := &editor{t, jsonrpc2.NewConn(jsonrpc2.NewStream(ours)), make(chan jsonrpc2.Request, 100)}
	e.conn.Go(context.Background(), func(ctx context.Context, reply jsonrpc2.Replier, r jsonrpc2.Request) error {
		e.told <- r
		return reply(ctx, nil, nil)
	})
	var workspace []protocol.WorkspaceFolder
	for _, dir := range folders {
		workspace = append(workspace, protocol.WorkspaceFolder{URI: string(uri.File(dir)), Name: filepath.Base(dir)})
	}
	var can protocol.InitializeResult
	require.NoError(t, e.call("initialize", map[string]any{
		"workspaceFolders": workspace,
		"capabilities": map[string]any{"workspace": map[string]any{
			"codeLens": map[string]any{"refreshSupport": true},
		}},
	}, &can))
	require.Equal(t, "omnivigil", can.ServerInfo.Name)
	e.notify("initialized", struct{}{})
	t.Cleanup(func() {
		require.NoError(t, e.call("shutdown", nil, nil))
		e.notify("exit", nil)
		require.NoError(t, <-served)
	})
	return e
}

func (e *editor) call(method string, params, result any) error {
	_, err := e.conn.Call(context.Background(), method, params, result)
	return err
}

func (e *editor) notify(method string, params any) {
	require.NoError(e.t, e.conn.Notify(context.Background(), method, params))
}

// next waits for the next message of a method.
func (e *editor) next(method string, into any) {
	e.t.Helper()
	for {
		select {
		case r := <-e.told:
			if r.Method() != method {
				continue
			}
			if into != nil {
				require.NoError(e.t, json.Unmarshal(r.Params(), into))
			}
			return
		case <-time.After(time.Minute):
			require.FailNow(e.t, "the server never sent "+method)
		}
	}
}

// diagnostics waits for what is published about a file, as "line:from-to message".
func (e *editor) diagnostics(file string) []protocol.Diagnostic {
	e.t.Helper()
	var p protocol.PublishDiagnosticsParams
	e.next("textDocument/publishDiagnostics", &p)
	require.Equal(e.t, uri.File(file), p.URI)
	return p.Diagnostics
}

func (e *editor) document(file string) map[string]any { return map[string]any{"uri": uri.File(file)} }

// lenses are the commands above the lines of a file, by title.
func (e *editor) lenses(file string) map[string]*protocol.Command {
	var all []protocol.CodeLens
	require.NoError(e.t, e.call("textDocument/codeLens", map[string]any{"textDocument": e.document(file)}, &all))
	commands := map[string]*protocol.Command{}
	for _, l := range all {
		commands[l.Command.Title] = l.Command
	}
	return commands
}

func (e *editor) execute(c *protocol.Command) error {
	return e.call("workspace/executeCommand", map[string]any{"command": c.Command, "arguments": c.Arguments}, nil)
}

// sailing is a project whose only source has a finding and a failing test.
func sailing(t *testing.T) (p *project, dir, file string, found []api.Finding, failing []api.Case) {
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	file = filepath.Join(dir, "fares.ts")
	require.NoError(t, os.WriteFile(file, []byte("// ⛴️ 𝒻ares\nconst 𝒻 = fare(1);\r\n\n  test();\n"), 0o644))
	found = []api.Finding{{
		Unit: "check", Severity: api.SeverityError, Rule: "TS2304", Message: "Cannot find name\x1b[31m 'fare'.", Run: 3,
		Location: location.Location{File: file, Line: 2, Column: 11},
	}}
	failing = []api.Case{{
		Unit: "check", Suite: "fares", Name: "$(touch it)", Run: 3, Message: "got 2",
		Location: location.Location{File: file, Line: 4},
	}}
	return &project{snaps: make(chan *api.Snapshot)}, dir, file, found, failing
}

func TestDiagnostics(t *testing.T) {
	p, dir, file, found, failing := sailing(t)
	e := open(t, map[string]*project{dir: p}, dir, filepath.Join(dir, "web")) // two folders, one project

	p.becomes(3, api.Current, api.VerdictBroken, found, failing)
	all := e.diagnostics(file)
	require.Len(t, all, 2)
	assert.Equal(t, protocol.Range{
		Start: protocol.Position{Line: 1, Character: 11}, End: protocol.Position{Line: 1, Character: 15},
	}, all[0].Range, "positions count UTF-16, in which the letter before is two")
	assert.Equal(t, "Cannot find name 'fare'. (check run 3, of the code just saved)", all[0].Message)
	assert.Equal(t, "TS2304", all[0].Code)
	assert.Equal(t, protocol.DiagnosticSeverityError, all[0].Severity)
	assert.Equal(t, protocol.Position{Line: 3, Character: 2}, all[1].Range.Start)
	assert.Equal(t, "$(touch it) failed: got 2 (check run 3, of the code just saved)", all[1].Message)

	for _, edit := range []struct{ method, message string }{
		{"textDocument/didChange", "the line is that of the saved file"},
		{"textDocument/didSave", "of the code just saved)"},
		{"textDocument/didChange", "the line is that of the saved file"},
		{"textDocument/didClose", "of the code just saved)"},
	} {
		e.notify(edit.method, map[string]any{"textDocument": e.document(file), "contentChanges": []any{}})
		assert.Contains(t, e.diagnostics(file)[0].Message, edit.message, edit.method)
	}
	p.becomes(4, api.Updating, api.VerdictUpdating, found, failing)
	assert.Contains(t, e.diagnostics(file)[0].Message, "(check run 3, of older code)")
	p.becomes(3, api.NoCode, api.VerdictBroken, found, failing)
	assert.Contains(t, e.diagnostics(file)[0].Message, "(check run 3, of the code just saved)")
	p.becomes(3, api.Stale, api.VerdictStale, found, failing)
	assert.Contains(t, e.diagnostics(file)[0].Message, "(check run 3, of older code)")
	p.becomes(4, api.Current, api.VerdictCurrent, nil, nil)
	assert.Empty(t, e.diagnostics(file))
	p.becomes(5, api.Current, api.VerdictBroken, found, failing)
	assert.Len(t, e.diagnostics(file), 2)
	close(p.snaps)
	assert.Empty(t, e.diagnostics(file), "the project has ended")
}

func TestVerdict(t *testing.T) {
	p, dir, _, _, _ := sailing(t)
	e := open(t, map[string]*project{dir: p}, dir)
	words := []api.VerdictWord{
		api.VerdictCurrent, api.VerdictUpdating, api.VerdictBroken, api.VerdictBroken, api.VerdictUpdating,
		api.VerdictCurrent,
	}
	for n, word := range words {
		p.becomes(n, api.Current, word, nil, nil)
	}
	var m protocol.ShowMessageParams
	e.next("window/showMessage", &m)
	assert.Equal(t, protocol.ShowMessageParams{Type: protocol.MessageTypeWarning, Message: "BROKEN  check: says so"}, m)
	e.next("window/showMessage", &m)
	assert.Equal(t, protocol.ShowMessageParams{Type: protocol.MessageTypeInfo, Message: "CURRENT  check: says so"}, m)
}

func TestCommands(t *testing.T) {
	p, dir, file, found, failing := sailing(t)
	e := open(t, map[string]*project{dir: p}, dir)
	p.becomes(3, api.Current, api.VerdictBroken, found, failing)
	e.next("workspace/codeLens/refresh", nil)

	lenses := e.lenses(file)
	require.Len(t, lenses, 4)
	name := api.CaseName{Suite: "fares", Name: "$(touch it)"}
	narrow := api.Request{Action: api.Narrow, Units: []string{"check"}, Cases: []api.CaseName{name}}
	all := api.Request{Action: api.Widen, Units: []string{"check"}}
	require.NoError(t, e.execute(lenses["only this test"]))
	assert.Equal(t, []api.Request{narrow}, p.requests())
	require.NoError(t, e.execute(lenses["run this test"]))
	assert.Eventually(t, func() bool { return len(p.requests()) == 3 }, time.Minute, time.Millisecond)
	assert.Equal(t, []api.Request{narrow, narrow, all}, p.requests(), "once it has passed, all tests run again")
	require.NoError(t, e.execute(lenses["rerun check"]))
	assert.Equal(t, api.Request{Action: api.Restart, Units: []string{"check"}}, p.requests()[3])
	assert.ErrorContains(t, e.execute(lenses["explain"]), "there is no unit check")

	var actions []protocol.CodeAction
	in := map[string]any{"textDocument": e.document(file), "range": found, "context": map[string]any{}}
	in["range"] = protocol.Range{Start: protocol.Position{Line: 1}, End: protocol.Position{Line: 1, Character: 3}}
	require.NoError(t, e.call("textDocument/codeAction", in, &actions))
	require.Len(t, actions, 2)
	assert.Equal(t, []string{"rerun check", "explain"}, []string{actions[0].Title, actions[1].Title})
	assert.Contains(t, actions[0].Diagnostics[0].Message, "Cannot find name")

	for _, wrong := range []*protocol.Command{
		{Command: "omnivigil.sink", Arguments: []any{target{Folder: dir}}},
		{Command: rerun},
		{Command: rerun, Arguments: []any{"check"}},
		{Command: rerun, Arguments: []any{target{Folder: "/elsewhere"}}},
		{Command: only, Arguments: []any{target{Folder: dir, Unit: "check"}}},
	} {
		assert.Error(t, e.execute(wrong), wrong)
	}
	assert.Error(t, e.call("textDocument/codeLens", []int{1}, nil))
	assert.Error(t, e.call("textDocument/hover", nil, nil))
	assert.Len(t, p.requests(), 4)
}

// TestFolders follows a folder that is opened through a link, and one that is added and removed.
func TestFolders(t *testing.T) {
	p, dir, file, found, failing := sailing(t)
	link := filepath.Join(t.TempDir(), "harbor")
	require.NoError(t, os.Symlink(dir, link))
	e := open(t, map[string]*project{dir: p}, t.TempDir(), "/proc")
	folder := []protocol.WorkspaceFolder{{URI: string(uri.File(link)), Name: "harbor"}}
	change := func(added, removed []protocol.WorkspaceFolder) {
		e.notify("workspace/didChangeWorkspaceFolders", map[string]any{
			"event": protocol.WorkspaceFoldersChangeEvent{Added: added, Removed: removed},
		})
	}
	change(append([]protocol.WorkspaceFolder{{URI: "untitled:none"}, {URI: ":"}}, folder...), nil)
	p.becomes(3, api.Current, api.VerdictBroken, found, failing)
	assert.Len(t, e.diagnostics(filepath.Join(link, filepath.Base(file))), 2, "under the name that the editor knows")
	change(nil, folder)
	assert.Empty(t, e.diagnostics(filepath.Join(link, filepath.Base(file))))
}

func FuzzRange(f *testing.F) {
	f.Add("const 𝒻 = fare(1);", 1, 11)
	f.Add("", 0, 0)
	f.Add("a\n\xffb\r\n", 2, 1)
	f.Fuzz(func(t *testing.T, text string, line, column int) {
		lines := strings.Split(text, "\n")
		r := sources{"file": lines}.rangeOf(location.Location{File: "file", Line: line, Column: column})
		if int(r.Start.Line) < len(lines) {
			units := uint32(len(utf16.Encode([]rune(lines[r.Start.Line]))))
			assert.LessOrEqual(t, r.End.Character, units)
		}
		assert.LessOrEqual(t, r.Start.Character, r.End.Character)
		assert.Equal(t, r.Start.Line, r.End.Line)
	})
}

func FuzzMessages(f *testing.F) {
	f.Add("textDocument/codeAction", `{"textDocument": {"uri": "file:///x"}, "range": {}}`)
	f.Add("workspace/didChangeWorkspaceFolders", `{"event": {"added": [{"uri": "ftp://x"}]}}`)
	f.Add("workspace/executeCommand", `{"command": "omnivigil.rerun", "arguments": [{}]}`)
	f.Fuzz(func(t *testing.T, method, params string) {
		if !json.Valid([]byte(params)) || method == protocol.MethodInitialize || method == protocol.MethodExit {
			return
		}
		ctx, stop := context.WithCancel(context.Background())
		stop()
		none := Projects{Of: func(string) (string, error) { return "", errors.New("none") }}
		s := newServer(ctx, discard{}, "1.0", none)
		r, err := jsonrpc2.NewCall(jsonrpc2.NewNumberID(1), method, json.RawMessage(params))
		require.NoError(t, err)
		s.handle(ctx, func(context.Context, any, error) error { return nil }, r)
		s.following.Wait()
	})
}

// discard is a stream that nobody reads.
type discard struct{}

func (discard) Read([]byte) (int, error)    { return 0, os.ErrClosed }
func (discard) Write(p []byte) (int, error) { return len(p), nil }
func (discard) Close() error                { return nil }
