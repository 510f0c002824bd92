package edit

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/plan"
	"omnivigil/internal/plan/settings"
)

func TestIgnore(t *testing.T) {
	for _, test := range []struct{ name, before, after, problem string }{
		{"a new key",
			"# ours\n[service.tides]  # the gauge\nrun = \"tides\"\n\n[task.fares]\nrun = \"fares\"\n",
			"# ours\n[service.tides]  # the gauge\nrun = \"tides\"\nignore = [\"data/tides.db\"]\n\n[task.fares]\n" +
				"run = \"fares\"\n", ""},
		{"a list",
			"[service.tides]\nrun = \"tides\"\nignore = [ \"dist/**\" ] # built\n",
			"[service.tides]\nrun = \"tides\"\nignore = [ \"data/tides.db\", \"dist/**\" ] # built\n", ""},
		{"an empty list",
			"[service.tides]\nrun = \"tides\"\nignore = []\n",
			"[service.tides]\nrun = \"tides\"\nignore = [\"data/tides.db\"]\n", ""},
		{"a list of lines",
			"[service.tides]\nrun = \"tides\"\nignore = [\n  \"dist/**\", # built\n]\n",
			"[service.tides]\nrun = \"tides\"\nignore = [\n  \"data/tides.db\",\n  \"dist/**\", # built\n]\n", ""},
		{"what the defaults say is kept",
			"[defaults]\nignore = [\"dist/**\"]\n[service.tides]\nrun = \"tides\"\n",
			"[defaults]\nignore = [\"dist/**\"]\n[service.tides]\nrun = \"tides\"\n" +
				"ignore = [\"data/tides.db\", \"dist/**\"]\n", ""},
		{"the list of another unit stays",
			"[service.tides]\nrun = \"tides\"\n[service.berths]\nrun = \"berths\"\nignore = [\"x\"]\n",
			"[service.tides]\nrun = \"tides\"\nignore = [\"data/tides.db\"]\n[service.berths]\nrun = \"berths\"\n" +
				"ignore = [\"x\"]\n", ""},
		{"a reaction's table follows",
			"[service.tides]\nrun = \"tides\"\n[[service.tides.reaction]]\nwhen = \"a\"\ndo = \"nothing\"\n",
			"[service.tides]\nrun = \"tides\"\nignore = [\"data/tides.db\"]\n[[service.tides.reaction]]\n" +
				"when = \"a\"\ndo = \"nothing\"\n", ""},
		{"said already",
			"[service.tides]\nrun = \"tides\"\nignore = [\"data/tides.db\"]\n",
			"[service.tides]\nrun = \"tides\"\nignore = [\"data/tides.db\"]\n", ""},
		{"no table of its own",
			"service.tides = { run = \"tides\" }\n", "",
			`write it yourself, into [service.tides]: ignore = ["data/tides.db"]`},
		{"a header in a text",
			"[service.berths]\nrun = '''\n[service.tides]\n'''\n[service.tides]\nrun = \"tides\"\n", "",
			`write it yourself`},
		{"broken", "[service.tides]\nrun = \n", "", "omnivigil.toml:2:7"},
	} {
		t.Run(test.name, func(t *testing.T) {
			file := filepath.Join(t.TempDir(), plan.FileName)
			require.NoError(t, os.WriteFile(file, []byte(test.before), 0o640))
			err := Ignore(&plan.Plan{File: file, Root: filepath.Dir(file)}, "tides", []string{"data/tides.db"})
			text, readErr := os.ReadFile(file)
			require.NoError(t, readErr)
			if test.after == "" {
				assert.ErrorContains(t, err, test.problem)
				assert.Equal(t, test.before, string(text), "nothing is written")
				return
			}
			require.NoError(t, err)
			assert.Equal(t, test.after, string(text))
			info, err := os.Stat(file)
			require.NoError(t, err)
			assert.Equal(t, os.FileMode(0o640), info.Mode().Perm())
		})
	}
}

// TestAddEntry adds lists to a table of a personal file, and leaves everything else as it is.
func TestAddEntry(t *testing.T) {
	file := filepath.Join(t.TempDir(), "omnivigil", "config.toml")
	for _, c := range []struct{ before, key, after string }{
		{"", "sea", "[selection]\nsea = [\"tides\", \"a \\\"b\\\"\"]\n"},
		{"theme = \"dark\"", "sea", "theme = \"dark\"\n\n[selection]\nsea = [\"tides\", \"a \\\"b\\\"\"]\n"},
		{
			"[selection]\n# mine\nland = []\n[keys]\n", "at sea",
			"[selection]\n\"at sea\" = [\"tides\", \"a \\\"b\\\"\"]\n# mine\nland = []\n[keys]\n",
		},
	} {
		if c.before != "" {
			require.NoError(t, os.WriteFile(file, []byte(c.before), 0o600))
		}
		require.NoError(t, AddEntry(file, "selection", c.key, []string{"tides", `a "b"`}))
		after, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.Equal(t, c.after, string(after))
	}
	require.NoError(t, os.WriteFile(file, []byte("selection.land = []\n"), 0o600))
	require.ErrorContains(t, AddEntry(file, "selection", "sea", nil), "by hand")
	kept, _ := os.ReadFile(file)
	assert.Equal(t, "selection.land = []\n", string(kept), "nothing is lost")
}

// TestMember adds to the settings of a member, whose patterns and names are its own.
func TestMember(t *testing.T) {
	root := t.TempDir()
	own := filepath.Join(root, "services", "fares", plan.FileName)
	require.NoError(t, os.MkdirAll(filepath.Dir(own), 0o755))
	write := func(file, text string) { require.NoError(t, os.WriteFile(file, []byte(text), 0o644)) }
	write(filepath.Join(root, plan.FileName), "[project]\nmembers = [\"services/*\"]\n[service.db]\nrun = \"db\"\n")
	write(own, "[task.gen]\nrun = \"gen\"\n[task.fares]\nrun = \"fares\"\nwatch = [\"a.csv\"]\n")
	p, err := settings.Read(filepath.Join(root, plan.FileName))
	require.NoError(t, err)
	require.NoError(t, Extend(p, []Addition{
		{Unit: "fares/fares", Key: "watch", Values: []string{"services/fares/b.csv", "services/c.csv", "d.csv"}},
		{Unit: "fares/fares", Key: "follows", Values: []string{"fares/gen"}},
		{Unit: "fares/fares", Key: "needs", Values: []string{"db"}},
	}))
	text, err := os.ReadFile(own)
	require.NoError(t, err)
	assert.Equal(t, "[task.gen]\nrun = \"gen\"\n[task.fares]\nrun = \"fares\"\n"+
		"watch = [\"b.csv\", \"../c.csv\", \"../../d.csv\", \"a.csv\"]\nfollows = [\"gen\"]\nneeds = [\"db\"]\n",
		string(text))
}
