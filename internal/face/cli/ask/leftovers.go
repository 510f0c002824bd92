package ask

import (
	"bufio"
	"fmt"
	"os"
	"strings"
	"time"

	"omnivigil/internal/plan"
	"omnivigil/internal/process"
	"omnivigil/internal/text/escape"
)

// Leftovers shows the processes of an earlier session of this project, which exist only if both of its
// processes were killed at once, and ends them if the user agrees.
func Leftovers(p *plan.Plan) {
	left := process.Leftovers(p.File)
	if len(left) == 0 {
		return
	}
	fmt.Fprintln(os.Stderr, "An earlier Omnivigil of this project was killed and left these processes running:")
	for _, l := range left {
		fmt.Fprintf(os.Stderr, "  %7d  %-12s  %.60s\n", l.PID, escape.Text(l.Unit), escape.Text(l.Command))
	}
	if !CanAsk() {
		fmt.Fprintln(os.Stderr, "They keep running: cannot ask without a terminal.")
		return
	}
	fmt.Print("End them first? [Y/n] ")
	answer, err := bufio.NewReader(os.Stdin).ReadString('\n')
	if err == nil && !strings.HasPrefix(strings.ToLower(strings.TrimSpace(answer)), "n") {
		process.EndLeftovers(p.File, 2*time.Second)
	}
}
