package cli

import (
	"bufio"
	"fmt"
	"io"
	"os"
	"regexp"
	"strings"

	"github.com/charmbracelet/x/ansi"
	"github.com/charmbracelet/x/term"

	"omnivigil/internal/api/exit"
	"omnivigil/internal/output/redact"
	"omnivigil/internal/plan"
	"omnivigil/internal/store/consent"
	"omnivigil/internal/store/paths"
	"omnivigil/internal/text/escape"
	"omnivigil/internal/text/format"
)

// askConsent shows what would run, the first time and whenever it has changed, and asks for
// a yes. With given set it has been said on the command line.
func askConsent(p *plan.Plan, given bool) error {
	store := consent.In(paths.State())
	answer, err := store.Ask(p)
	switch {
	case err != nil && !given:
		return exit.Refuse("omnivigil: %v", err)
	case answer.Agreed():
		store.Add(p) // what an earlier version has kept tells less
		return nil
	case !given:
		page := consentPage(p, answer)
		if !isTerminal(os.Stdin) || !isTerminal(os.Stdout) {
			fmt.Print(strings.Join(page, "\n") + "\n")
			return exit.Refuse(
				"\nomnivigil: cannot ask without a terminal. Review the list above and start with --trust. Nothing was started.",
			)
		}
		if !askOn(page) {
			return exit.Refuse("Nothing was started.")
		}
	}
	if err := store.Add(p); err != nil {
		fmt.Fprintln(os.Stderr, "omnivigil:", escape.Text(err.Error())+"; you will be asked again next time.")
	}
	return nil
}

// consentPage is all that would run, in words: what is new since the last yes or unusual
// first, then the rest.
func consentPage(p *plan.Plan, answer consent.Answer) []string {
	secrets := redact.Of(p.SecretValues(os.Environ()))
	show := func(text string) string { return shortBlanks(escape.Text(secrets.String(text))) }
	fresh := map[consent.Item]bool{}
	for _, item := range answer.New {
		fresh[item] = true
	}
	var first, rest []string
	unit := "\x00"
	for _, item := range consent.Items(p) {
		isNew := answer.Known && fresh[item]
		if isNew || !answer.Known && !item.Usual {
			first = append(first, map[bool]string{true: "  + ", false: "  "}[isNew]+show(item.String()))
		}
		if item.Late() && !answer.Known { // when and how, which nothing runs by itself
			continue
		}
		if item.Unit != unit {
			unit = item.Unit
			heading := show(unit)
			if unit == "" {
				heading = "the project"
			}
			rest = append(rest, "", "  "+heading)
		}
		mark := "    "
		if isNew {
			mark = "  + "
		}
		rest = append(rest, mark+show(item.What+"  "+item.Text))
	}
	lines := []string{fmt.Sprintf("%s would run, in %s:", show(p.Name), show(p.Root))}
	switch {
	case answer.Known:
		lines = append(lines, "", "Changed since you last agreed (+ new, - gone):")
	case len(first) > 0:
		lines = append(lines, "", "Beside the units' own commands:")
	}
	lines = append(lines, first...)
	if answer.Known {
		for _, text := range answer.Gone {
			lines = append(lines, "  - "+show(text))
		}
		return lines
	}
	return append(append(lines, "", "All of it:"), rest...)
}

// shortBlanks writes long runs of blanks as their number, so that nothing hides behind them.
func shortBlanks(text string) string {
	return manyBlanks.ReplaceAllStringFunc(
		text,
		func(blanks string) string { return fmt.Sprintf(" [%d blanks] ", len(blanks)) },
	)
}

var manyBlanks = regexp.MustCompile(` {5,}`)

// rowsOf breaks lines into the rows that they take on a terminal of that width.
func rowsOf(lines []string, width int) []string {
	var rows []string
	for _, line := range lines {
		rows = append(rows, strings.Split(ansi.Hardwrap(line, width, true), "\n")...)
	}
	return rows
}

// askOn shows lines, a screenful at a time, and asks when all of them have been shown.
func askOn(lines []string) bool {
	width, height, err := term.GetSize(os.Stdout.Fd())
	if err != nil || height < 8 || width < 20 {
		width, height = 80, 24
	}
	lines = rowsOf(lines, width)
	in := bufio.NewReader(os.Stdin)
	for room := height - 3; len(lines) > room; {
		fmt.Println(strings.Join(lines[:room], "\n"))
		lines = lines[room:]
		fmt.Printf("\n%s more. Enter shows them, n stops here: ", format.Count(len(lines), "line"))
		if answer := readAnswer(in); answer != "" {
			return false
		}
	}
	fmt.Println(strings.Join(lines, "\n"))
	fmt.Print("\nThis is new here. Run it, now and from now on? [y/N] ")
	return readAnswer(in) == "y"
}

// readAnswer reads a line and returns its first letter, small; "n" at the input's end.
func readAnswer(in *bufio.Reader) string {
	line, err := in.ReadString('\n')
	if err != nil && err != io.EOF || err == io.EOF && line == "" {
		return "n"
	}
	line = strings.ToLower(strings.TrimSpace(line))
	return line[:min(len(line), 1)]
}
