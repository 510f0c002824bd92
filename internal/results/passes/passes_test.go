package passes

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"omnivigil/internal/plan"
)

// TestKnownTools reads recorded output of common tools in watch mode: a good build, the same again, one with an
// error, and the error fixed. Each line that begins or ends a pass is followed by its meaning, after ">".
func TestKnownTools(t *testing.T) {
	files, err := filepath.Glob("testdata/*.txt")
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(files), len(known()))
	for _, file := range files {
		t.Run(strings.TrimSuffix(filepath.Base(file), ".txt"), func(t *testing.T) {
			told, err := os.ReadFile(file)
			require.NoError(t, err)
			var lines, account []string
			for l := range strings.Lines(string(told)) {
				if l = strings.TrimSuffix(l, "\n"); !strings.HasPrefix(l, "> ") {
					lines = append(lines, l)
				}
			}
			r, _ := New(plan.Pass{Auto: true}, time.Time{})
			for i, l := range lines {
				account = append(account, l)
				for _, ev := range r.Read(time.Time{}, time.Time{}, l, lines[i+1:]) {
					account = append(account, "> "+ev.words())
				}
			}
			if *update {
				require.NoError(t, os.WriteFile(file, []byte(strings.Join(account, "\n")+"\n"), 0o644))
			}
			require.Equal(t, string(told), strings.Join(account, "\n")+"\n")
		})
	}
}

func (e Event) words() string {
	switch {
	case e.Ended && e.Good:
		return "ended well"
	case e.Ended:
		return "failed: " + e.Saw
	case e.Guessed:
		return "had begun"
	}
	return "begins"
}

// TestReader gives, for every line, the start of the pass that it reports.
func TestReader(t *testing.T) {
	at := func(second int) time.Time { return time.Unix(int64(second), 0) }
	for _, c := range []struct {
		name  string
		pass  plan.Pass
		lines []string // the first was written between seconds 1 and 2, the next between 2 and 3
		want  []string
	}{
		{"a line says when", plan.Pass{Working: "^change", Good: "^done", Bad: "^failed"},
			[]string{"done", "change", "done"},
			[]string{"0 to 0 had begun", "ended well", "2 to 3 begins", "ended well"}},
		{"no line does", plan.Pass{Good: "^done"},
			[]string{"done", "other", "done"},
			[]string{"0 to 0 had begun", "ended well", "1 to 4 had begun", "ended well"}},
		{"what follows an error is of the same pass", plan.Pass{Working: "^change", Good: "^done", Bad: "^failed"},
			[]string{"failed", "done", "change", "x.ts: error 7", "failed", "done"},
			[]string{"0 to 0 had begun", "failed: failed", "3 to 4 begins", "failed: x.ts: error 7"}},
		{"a tool that says twice that it works", plan.Pass{Working: "^change", Good: "^done"},
			[]string{"change", "change", "done"},
			[]string{"0 to 0 had begun", "1 to 2 begins", "2 to 3 begins", "ended well"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			r, events := New(c.pass, at(0))
			for i, l := range c.lines {
				events = append(events, r.Read(at(i+1), at(i+2), l, nil)...)
			}
			var got []string
			for _, ev := range events {
				words := ev.words()
				if !ev.Ended {
					words = fmt.Sprintf("%d to %d %s", ev.After.Unix(), ev.By.Unix(), words)
				}
				got = append(got, words)
			}
			require.Equal(t, c.want, got)
		})
	}
}
