package e2e

import (
	"testing"

	"github.com/stretchr/testify/require"

	"omnivigil/internal/demo"
)

// TestObservesOwnProjects observes the demo and both examples as they are, and then with settings that were broken on
// purpose.
func TestObservesOwnProjects(t *testing.T) {
	t.Parallel()
	t.Run("demo", func(t *testing.T) {
		t.Parallel()
		dir, err := demo.Unpack(t.TempDir(), build(t))
		require.NoError(t, err)
		liveProject{
			wrong: [][2]string{
				{`watch = \["tides/\*.toml"\]`, ""}, {`\{html,css\}`, "html"}, {`outputs = .*`, ""},
				{`needs = \["tides", "timetable"\]`, `needs = ["timetable"]`},
			},
			finds: []string{"tides uncovered-read", "lint uncovered-read", "fares undeclared-output",
				"berths undeclared-need"},
		}.observe(&background{t, dir}, "")
	})
	t.Run("harbour office", func(t *testing.T) {
		t.Parallel()
		liveProject{
			wrong: [][2]string{
				{`watch = \["front/.*`, ""}, {`"migrations/\*.sql", `, ""}, {`needs = \["database", "migrate"\]`, ""},
			},
			finds: []string{"front uncovered-read", "migrate uncovered-read", "api undeclared-need"},
		}.observe(&background{t, openOffice(t).dir}, "")
	})
	t.Run("ticket office", func(t *testing.T) {
		t.Parallel()
		dir, _ := copyTicketOffice(t)
		liveProject{
			wrong: [][2]string{
				{`watch = \["api/\*.js", "package.json"\]\nready`, "ready"},
				{`watch = \["web/\*\*/\*.ts", "tsconfig.json"\]\noutputs = \["build`,
					"watch = [\"web/app.ts\"]\noutputs = [\"build"},
				{`"test/\*.js", `, ""},
			},
			finds: []string{"api uncovered-read", "bundle incomplete-key", "fares uncovered-read"},
		}.observe(&background{t, dir}, "")
	})
}
