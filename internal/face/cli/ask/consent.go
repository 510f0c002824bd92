// Package ask asks the user on the terminal: for consent to what would run, and about what an earlier session has left.
package ask

import (
	"bufio"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/charmbracelet/x/term"

	"omnivigil/internal/api/exit"
	"omnivigil/internal/face/cli/preview"
	"omnivigil/internal/plan"
	"omnivigil/internal/store/consent"
	"omnivigil/internal/store/paths"
	"omnivigil/internal/text/escape"
	"omnivigil/internal/text/format"
)

// Consent shows what would run, the first time and whenever it has changed, and asks for consent. Given: the
// command line has given it.
func Consent(p *plan.Plan, given bool) error {
	store := consent.In(paths.State())
	answer, err := store.Ask(p)
	switch {
	case err != nil && !given:
		return exit.Refuse("omnivigil: %v", err)
	case answer.Agreed():
		store.Add(p) // an earlier version has stored less
		return nil
	case !given:
		page := preview.Consent(p, answer)
		if !CanAsk() {
			fmt.Print(strings.Join(page, "\n") + "\n")
			return exit.Refuse(
				"\nomnivigil: cannot ask without a terminal. Review the list above and start with --trust. Nothing " +
					"was started.",
			)
		}
		if !shown(page) {
			return exit.Refuse("Nothing was started.")
		}
	}
	if err := store.Add(p); err != nil {
		fmt.Fprintln(os.Stderr, "omnivigil:", escape.Text(err.Error())+"; you will be asked again next time.")
	}
	return nil
}

// shown shows lines, a screen at a time, and asks when all of them have been shown.
func shown(lines []string) bool {
	width, height, err := term.GetSize(os.Stdout.Fd())
	if err != nil || height < 8 || width < 20 {
		width, height = 80, 24
	}
	lines = preview.Rows(lines, width)
	in := bufio.NewReader(os.Stdin)
	for room := height - 3; len(lines) > room; {
		fmt.Println(strings.Join(lines[:room], "\n"))
		lines = lines[room:]
		fmt.Printf("\n%s more. Enter shows them, n stops here: ", format.Count(len(lines), "line"))
		if answer := Answer(in); answer != "" {
			return false
		}
	}
	fmt.Println(strings.Join(lines, "\n"))
	fmt.Print("\nThis is new here. Run it, now and from now on? [y/N] ")
	return Answer(in) == "y"
}

// Answer reads a line and returns its first letter in lowercase; "n" at the end of the input.
func Answer(in *bufio.Reader) string {
	line, err := in.ReadString('\n')
	if err != nil && err != io.EOF || err == io.EOF && line == "" {
		return "n"
	}
	line = strings.ToLower(strings.TrimSpace(line))
	return line[:min(len(line), 1)]
}

// IsTerminal reports whether a file is a terminal.
func IsTerminal(f *os.File) bool { return term.IsTerminal(f.Fd()) }

// CanAsk reports whether the user can be asked: input and output are terminals.
func CanAsk() bool { return IsTerminal(os.Stdin) && IsTerminal(os.Stdout) }
