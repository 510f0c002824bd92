package setup

import (
	"context"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/plan"
	"omnivigil/internal/plan/settings"
)

func TestSteps(t *testing.T) {
	root, state := t.TempDir(), t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(root, name), []byte(text), 0o600))
	}
	write(".env", "PORT=1\nTOKEN=a\n")
	write("lock", "1")
	write(plan.FileName, `
[project]
env_files = [".env"]
[defaults]
setup = [{ run = "install $TOKEN", inputs = ["lock"], outputs = ["modules", "gen/*.go"] }]
[service.api]
run = "api"
[service.web]
run = "web"
[service.other]
run = "other"
env = { NODE_ENV = "production" }
`)
	steps := In(state)
	done := func(unit string) bool {
		p, err := settings.Read(filepath.Join(root, plan.FileName))
		require.NoError(t, err)
		u := p.Unit(unit)
		turn, err := steps.Begin(t.Context(), p, u, u.Setup[0])
		require.NoError(t, err)
		require.NoError(t, turn.End(!turn.Done))
		return turn.Done
	}
	assert.False(t, done("api"))
	assert.False(t, done("api"), "its outputs are not there")
	require.NoError(t, os.MkdirAll(filepath.Join(root, "modules"), 0o700))
	require.NoError(t, os.MkdirAll(filepath.Join(root, "gen"), 0o700))
	write("gen/a.go", "package gen")
	assert.True(t, done("api"))
	assert.True(t, done("web"), "it is the same step")
	steps = In(state)
	assert.True(t, done("web"), "in another session, too")
	assert.False(t, done("other"), "it has another environment")
	assert.False(t, done("web"))

	write(".env", "PORT=2\nTOKEN=a\n")
	assert.True(t, done("web"), "it does not depend on that")
	write(".env", "PORT=2\nTOKEN=b\n")
	assert.False(t, done("web"), "its command names that")
	write("lock", "2")
	assert.False(t, done("web"))
	require.NoError(t, os.RemoveAll(filepath.Join(root, "modules")))
	assert.False(t, done("web"), "an output is gone")
}

func TestOneAtATime(t *testing.T) {
	p := &plan.Plan{Root: t.TempDir()}
	u, step := &plan.Unit{Dir: p.Root}, plan.Step{Run: plan.Command{Shell: "install"}}
	steps := In(t.TempDir())
	first, err := steps.Begin(t.Context(), p, u, step)
	require.NoError(t, err)
	ctx, stop := context.WithCancel(t.Context())
	stop()
	_, err = steps.Begin(ctx, p, u, step)
	require.ErrorIs(t, err, context.Canceled)
	require.NoError(t, first.End(true))
	second, err := steps.Begin(t.Context(), p, u, step)
	require.NoError(t, err)
	assert.True(t, second.Done)
	require.NoError(t, second.End(false))

	// The directory of a workspace produces the same with another command.
	makes := plan.Step{Run: plan.Command{Shell: "install"}, Outputs: []plan.Pattern{{Text: "node_modules"}}}
	elsewhere := plan.Step{Run: plan.Command{Shell: "cd .. && install"}, Outputs: makes.Outputs}
	third, err := steps.Begin(t.Context(), p, u, makes)
	require.NoError(t, err)
	_, err = steps.Begin(ctx, p, &plan.Unit{Dir: p.Root + "/desk"}, elsewhere)
	require.ErrorIs(t, err, context.Canceled)
	require.NoError(t, third.End(false))
	fourth, err := steps.Begin(t.Context(), p, &plan.Unit{Dir: p.Root + "/desk"}, elsewhere)
	require.NoError(t, err)
	require.NoError(t, fourth.End(false))

	// Packages of a workspace share a step that runs in its own directory.
	shared := plan.Step{Run: plan.Command{Shell: "install all"}, Dir: p.Root}
	fifth, err := steps.Begin(t.Context(), p, &plan.Unit{Dir: p.Root + "/desk"}, shared)
	require.NoError(t, err)
	require.NoError(t, fifth.End(true))
	done, err := steps.Done(p, &plan.Unit{Dir: p.Root + "/tides"}, shared)
	require.NoError(t, err)
	assert.True(t, done)
}

func TestInputThatIsNoFile(t *testing.T) {
	p := &plan.Plan{Root: t.TempDir()}
	require.NoError(t, syscall.Mkfifo(filepath.Join(p.Root, "pipe"), 0o600))
	require.NoError(t, os.Symlink("pipe", filepath.Join(p.Root, "link")))
	step := plan.Step{Run: plan.Command{Shell: "install"}, Inputs: []plan.Pattern{{Text: "link"}, {Text: "pipe"}}}
	turn, err := In(t.TempDir()).Begin(t.Context(), p, &plan.Unit{Dir: p.Root}, step)
	if err == nil {
		require.NoError(t, turn.End(false))
		return
	}
	assert.ErrorContains(t, err, "it is a pipe, not a file")
}
