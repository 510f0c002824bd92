package history

import (
	"context"
	"fmt"
	"math"
	"os"
	"strings"
	"time"

	"omnivigil/internal/api/exit"
	"omnivigil/internal/api/past"
	"omnivigil/internal/face/client"
	"omnivigil/internal/store/history/reader"
	"omnivigil/internal/text/format"
)

// compared prints which units and tests differ between two branches or commits.
func (l *looking) compared(ctx context.Context, r *reader.Reader) error {
	a, b, ok := strings.Cut(l.compare, "..")
	if !ok || a == "" || b == "" {
		return exit.Refuse("omnivigil: --compare takes two branches or commits, as main..tide-table")
	}
	c, err := r.Compare(ctx, l.query, a, b)
	if err != nil {
		return err
	}
	for name, n := range map[string]int{a: c.RunsA, b: c.RunsB} {
		if n == 0 {
			return exit.Refuse("omnivigil: nothing ran on %s, as a branch or as a commit", name)
		}
	}
	if l.asJSON {
		return client.PrintJSON(c)
	}
	client.Say(os.Stdout, "%s on %s, %s on %s", format.Count(c.RunsA, "run"), a, format.Count(c.RunsB, "run"), b)
	for _, d := range c.Differences {
		client.Say(os.Stdout, "%s", differenceLine(d, a, b))
	}
	if len(c.Differences) == 0 {
		client.Say(os.Stdout, "Nothing differs by more than chance.")
	}
	return nil
}

// differenceLine is a difference in one line.
func differenceLine(d past.Difference, a, b string) string {
	of := d.Unit
	if d.Suite != "" || d.Test != "" {
		of += " " + strings.TrimSpace(d.Suite+" "+d.Test)
	}
	if d.Measure == "failures" {
		return fmt.Sprintf("%s: fails in %s of its runs on %s, in %s on %s", of, format.Percent(d.A), a,
			format.Percent(d.B), b)
	}
	word := "slower"
	if d.B < d.A {
		word = "faster"
	}
	return fmt.Sprintf("%s: %.0f %% %s on %s: %s, on %s %s", of, 100*math.Abs(d.Ratio-1), word, b,
		format.Duration(seconds(d.B)), a, format.Duration(seconds(d.A)))
}

func seconds(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }
