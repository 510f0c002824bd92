package observation

import (
	"flag"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/txtar"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/api"
	"omnivigil/internal/plan"
	"omnivigil/internal/plan/edit"
	"omnivigil/internal/plan/settings"
	"omnivigil/internal/process/observe"
)

var update = flag.Bool("update", false, "write what is found into the test data")

// accesses are the words of the test data.
var accesses = map[string]observe.Access{
	"reads": observe.Read, "lists": observe.Listed, "looks-at": observe.Looked, "looks-for": observe.Missing,
	"writes": observe.Written, "creates": observe.Created | observe.Written, "removes": observe.Removed,
	"executes": observe.Read | observe.Executed, "watches": observe.Looked | observe.Watched,
}

// seenIn reads what units were seen to do: lines such as "api reads tax/rates.json", "api listens 127.0.0.1:4102 300ms"
// with the time after it was ready.
func seenIn(t *testing.T, text string) []Observed {
	var all []Observed
	ready := time.Date(2027, 5, 1, 12, 0, 0, 0, time.UTC)
	for line := range strings.Lines(text) {
		words := strings.Fields(line)
		if len(all) == 0 || all[len(all)-1].Unit != words[0] {
			all = append(all, Observed{Unit: words[0], Run: 1, ReadyAt: ready})
		}
		seen := &all[len(all)-1].Seen
		switch access, is := accesses[words[1]]; {
		case is:
			name := strings.ReplaceAll(words[2], `\x20`, " ")
			seen.Paths = append(seen.Paths, observe.Path{Name: name, Access: access, Since: ready})
		case words[1] == "runs-setuid":
			seen.Programs = append(seen.Programs, observe.Program{Path: words[2], Privileged: true})
		case words[1] == "cannot":
			all[len(all)-1].Problem = strings.Join(words[2:], " ")
		default:
			late, err := time.ParseDuration(append(words, "-1s")[3])
			require.NoError(t, err)
			a := observe.Address{Since: ready.Add(late)}
			if a.IP, err = netip.ParseAddrPort(words[2]); err != nil {
				a.Path = words[2]
			}
			to := map[string]*[]observe.Address{"listens": &seen.Listens, "connects": &seen.Connects}[words[1]]
			*to = append(*to, a)
		}
	}
	return all
}

// foundIn writes mismatches as lines, with their edits.
func foundIn(all []api.Mismatch) string {
	var b strings.Builder
	for _, m := range all {
		fmt.Fprintf(&b, "%s %s %s (line %d): %s\n", m.Severity, m.Kind, m.Unit, m.Line, m.Text)
		for _, e := range m.Edits {
			fmt.Fprintf(&b, "  %s: %s\n", e.Unit, e.Text)
		}
	}
	return b.String()
}

// TestCompare plays the projects of testdata: their settings, their files, what units were seen to do, and the
// mismatches. With the proposed edits, nothing but notes is left.
func TestCompare(t *testing.T) {
	files, err := filepath.Glob("testdata/*.txtar")
	require.NoError(t, err)
	for _, file := range files {
		t.Run(strings.TrimSuffix(filepath.Base(file), ".txtar"), func(t *testing.T) {
			project, err := txtar.ParseFile(file)
			require.NoError(t, err)
			root, err := filepath.EvalSymlinks(t.TempDir())
			require.NoError(t, err)
			require.NoError(t, os.Mkdir(filepath.Join(root, ".git"), 0o755))
			var seen []Observed
			for i, f := range project.Files {
				switch f.Name {
				case "seen":
					seen = seenIn(t, string(f.Data))
				case "mismatches":
				default:
					at := filepath.Join(root, f.Name)
					require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
					require.NoError(t, os.WriteFile(at, project.Files[i].Data, 0o644))
				}
			}
			name := filepath.Join(root, plan.FileName)
			p, err := settings.Read(name)
			require.NoError(t, err)
			found := Compare(p, seen).Mismatches
			last := &project.Files[len(project.Files)-1]
			require.Equal(t, "mismatches", last.Name)
			if *update {
				last.Data = []byte(foundIn(found))
				require.NoError(t, os.WriteFile(file, txtar.Format(project), 0o644))
			}
			assert.Equal(t, string(last.Data), foundIn(found))
			for range 2 { // an output that is declared may have to be followed, too
				for _, m := range found {
					for _, e := range m.Edits {
						require.NoError(t, edit.Extend(p, []edit.Addition{Addition(e)}))
					}
				}
				p, err = settings.Read(name)
				require.NoError(t, err)
				found = Compare(p, seen).Mismatches
			}
			for _, m := range found {
				assert.True(t, m.Severity == api.SeverityNote || len(m.Edits) == 0 && m.Kind != api.UncoveredRead,
					m.Text)
			}
		})
	}
}
