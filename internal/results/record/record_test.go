package record

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"omnivigil/internal/api"
	"omnivigil/internal/results"
	"omnivigil/internal/results/source"
	"omnivigil/internal/text/location"
)

var noon = time.Date(2030, 5, 4, 12, 0, 0, 0, time.UTC)

// TestRecord plays stories: runs, their reports, and the state after each.
func TestRecord(t *testing.T) {
	files, err := filepath.Glob("testdata/records/*.txt")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, file := range files {
		t.Run(strings.TrimSuffix(filepath.Base(file), ".txt"), func(t *testing.T) {
			text, err := os.ReadFile(file)
			require.NoError(t, err)
			var out strings.Builder
			r, runs, now, live := New(), 0, noon, false
			r.Root = "/ferries"
			for line := range strings.Lines(string(text)) {
				if strings.HasPrefix(line, "=") {
					continue // the current report
				}
				out.WriteString(line)
				words := strings.Fields(line)
				if len(words) == 0 || strings.HasPrefix(line, "#") {
					continue
				}
				switch words[0] {
				case "run": // [same] [partial] [of COMMAND]
					runs++
					run := Run{Number: runs, At: now}
					for i, w := range words[1:] {
						run.Same, run.Partial = run.Same || w == "same", run.Partial || w == "partial"
						if w == "of" {
							run.Command = strings.Join(words[i+2:], " ")
							break
						}
					}
					r.Begin(run)
					live = true
				case "pass", "fail", "skip": // SUITE NAME [TOOK]
					c := results.Case{
						Suite: words[1],
						Name:  words[2],
						Status: map[string]results.Status{"pass": results.Passed, "fail": results.Failed,
							"skip": results.Skipped}[words[0]],
					}
					if c.Suite == "?" {
						c.Suite = ""
					}
					if len(words) > 3 {
						c.Took, err = time.ParseDuration(words[3])
						require.NoError(t, err)
					}
					r.Ended(c)
				case "suite": // NAME [ok] [failures-only] [unnamed] [broken]
					has := func(word string) bool { return strings.Contains(line, " "+word) }
					r.SuiteEnded(
						results.SuiteEnd{
							Suite:        words[1],
							OK:           has("ok"),
							OnlyFailures: has("failures-only"),
							Unnamed:      has("unnamed"),
							Broken:       has("broken"),
						},
					)
				case "error", "warning": // FILE:LINE RULE MESSAGE
					place, line, _ := strings.Cut(words[1], ":")
					f := results.Finding{
						Location: location.Location{File: "/ferries/" + place, Line: source.Number(line)},
						Severity: results.SeverityOf(words[0]),
						Rule:     words[2],
						Message:  strings.Join(words[3:], " "),
					}
					if f.Rule == "-" {
						f.Rule = ""
					}
					r.Found(f)
				case "next": // round
					r.Settle()
					r.NextRound()
				case "kept": // and read by the next session
					data, err := r.Marshal()
					require.NoError(t, err)
					r, err = Unmarshal(data)
					require.NoError(t, err)
					r.Root, runs = "/ferries", 0
				case "end": // [stopped] [badly]
					now = now.Add(time.Second)
					r.End(now, !strings.Contains(line, "stopped"), !strings.Contains(line, "badly"))
					live = false
				default:
					t.Fatalf("no such word: %s", line)
				}
				if !live || words[0] == "next" {
					out.WriteString(tellRecord(r))
				}
			}
			if *updateStories {
				require.NoError(t, os.WriteFile(file, []byte(out.String()), 0o600))
			}
			assert.Equal(t, string(text), out.String())
		})
	}
}

// updateStories rewrites the stories with the actual results.
var updateStories = flag.Bool("update-stories", false, "write what was told into the stories")

func tellRecord(r *Record) string {
	var out strings.Builder
	for _, c := range r.Cases() {
		fmt.Fprintf(&out, "= %s %s: %s", c.Suite, c.Name, c.Status)
		for _, word := range []struct {
			is   bool
			text string
		}{{c.Change != "", string(c.Change)}, {c.Flaky, "flaky"}, {c.Slow, "slow"}} {
			if word.is {
				out.WriteString(", " + word.text)
			}
		}
		out.WriteString("\n")
	}
	for _, f := range r.Findings() {
		fmt.Fprintf(&out, "= %s %s %s\n", f.Change, f.Severity, r.short(f.Finding).Text())
	}
	s := r.Sum()
	fmt.Fprintf(
		&out,
		"= %d of %d failing, %d new, %v; first %q; news %q\n",
		s.Failed,
		s.Cases,
		s.New,
		s.Names,
		s.First,
		r.News(),
	)
	return out.String()
}

func TestNaturally(t *testing.T) {
	names := []string{"case 10", "case 2", "case 1/b", "case", "case 02", "Case 3", "case 1/a", "100", "99"}
	slices.SortFunc(names, naturally)
	assert.Equal(
		t,
		[]string{"99", "100", "Case 3", "case", "case 1/a", "case 1/b", "case 02", "case 2", "case 10"},
		names,
	)
}

// TestRecordHolds plays random runs and checks that the record's counts match its lists, that it holds everything
// reported in the newest run, and that it survives being saved and loaded.
func TestRecordHolds(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		r := New()
		small := func(name string) int { return rapid.IntRange(0, 3).Draw(t, name) }
		for run := range rapid.IntRange(1, 8).Draw(t, "runs") {
			command := []string{"", "", "", "some"}[small("command")]
			r.Begin(
				Run{
					Number:  run + 1,
					Command: command,
					Same:    small("same") == 0,
					Partial: small("partial") == 0,
					At:      noon,
				},
			)
			told, found := map[api.CaseName]results.Status{}, map[string]bool{}
			for range rapid.IntRange(0, 12).Draw(t, "steps") {
				switch small("what") {
				case 0:
					f := results.Finding{
						Location: location.Location{File: "a", Line: small("line")},
						Severity: results.Severity(rapid.IntRange(0, 2).Draw(t, "severity")),
						Message:  fmt.Sprint("m", small("message")),
					}
					r.Found(f)
					found[f.Text()] = true
				case 1:
					r.SuiteEnded(
						results.SuiteEnd{
							Suite:        fmt.Sprint("s", small("suite")),
							OnlyFailures: small("only") == 0,
							Broken:       small("broken") == 0,
						},
					)
				default:
					c := results.Case{
						Suite: fmt.Sprint("s", small("suite")),
						Name:  fmt.Sprint("n", small("name")),
						Status: []results.Status{results.Passed, results.Failed, results.Skipped,
							results.Passed}[small("status")],
					}
					r.Ended(c)
					told[api.CaseName{Suite: c.Suite, Name: c.Name}] = c.Status
				}
			}
			r.End(noon.Add(time.Second), small("complete") > 0, small("ok") > 0)
			sum, cases := r.Sum(), r.Cases()
			if sum.Cases != len(cases) || sum.Passed+sum.Failed+sum.Skipped != len(cases) {
				t.Fatalf("the numbers are not those of the list: %+v, %d cases", sum, len(cases))
			}
			for key := range told {
				c, ok := r.Case(api.CaseName{Suite: key.Suite, Name: key.Name})
				if !ok || c.Run != run+1 || len(c.Past) == 0 || c.Past[len(c.Past)-1].Run != run+1 {
					t.Fatalf("%v was told and is not there: %+v", key, c)
				}
			}
			for _, f := range r.Findings() {
				if delete(found, f.Text()); f.Change == api.GoneFinding && f.Run == run+1 {
					t.Fatalf("%s was told and is gone", f.Text())
				}
			}
			if len(found) > 0 {
				t.Fatalf("findings were told and are not there: %v", found)
			}
			data, err := r.Marshal()
			if err != nil {
				t.Fatal(err)
			}
			again, err := Unmarshal(data)
			if err != nil || len(again.Cases()) != len(cases) || again.Sum().Failed != sum.Failed ||
				again.Sum().Flaky != sum.Flaky {
				t.Fatalf("it is not the same when it was kept: %v", err)
			}
		}
	})
}
