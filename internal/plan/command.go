package plan

import (
	"slices"
	"strconv"
	"strings"

	"omnivigil/internal/plan/capture"
	"omnivigil/internal/text/format"
)

// With returns the command with each {name} replaced by its capture. In a shell line it becomes an argument of the
// shell, "${1}" and so on, whatever quotes it is in: a file name is never read as code.
func (c Command) With(captures map[string]string) Command {
	if c.Words == nil {
		return c.withArgs(captures)
	}
	fill := func(words []string) []string {
		if words == nil {
			return nil
		}
		out := make([]string, len(words))
		for i, w := range words {
			out[i] = replaceCaptures(w, func(name string, _ byte) (string, bool) {
				value, ok := captures[name]
				return value, ok
			})
		}
		return out
	}
	return Command{Words: fill(c.Words), Written: fill(c.Written)}
}

// Plus returns the command with arguments added at its end, which are passed on unaltered.
func (c Command) Plus(words []string) Command {
	if len(words) == 0 {
		return c
	}
	if c.Words == nil {
		out := Command{Shell: c.Shell, Args: slices.Concat(c.Args, words)}
		for i := range words {
			out.Shell += ` "${` + strconv.Itoa(len(c.Args)+i+1) + `}"`
		}
		return out
	}
	out := Command{Words: slices.Concat(c.Words, words)}
	if c.Written != nil {
		out.Written = slices.Concat(c.Written, words)
	}
	return out
}

func (c Command) withArgs(captures map[string]string) Command {
	out := Command{Args: c.Args}
	position := map[string]int{}
	out.Shell = replaceCaptures(c.Shell, func(name string, quote byte) (string, bool) {
		value, ok := captures[name]
		if !ok {
			return "", false
		}
		if position[name] == 0 {
			out.Args = append(out.Args, value)
			position[name] = len(out.Args)
		}
		argument := "${" + strconv.Itoa(position[name]) + "}"
		switch quote {
		case '"':
			return argument, true
		case '\'': // close the quotes, in which nothing is replaced
			return `'"` + argument + `"'`, true
		}
		return `"` + argument + `"`, true
	})
	return out
}

// replaceCaptures replaces each {name}; quote is the kind of POSIX shell quotes around it, or 0. ${name} belongs to
// the shell.
func replaceCaptures(text string, value func(name string, quote byte) (string, bool)) string {
	var b strings.Builder
	last := 0
	quotes := shellQuotes{}
	for _, m := range capture.Expression.FindAllStringSubmatchIndex(text, -1) {
		quotes.pass(text[last:m[0]])
		b.WriteString(text[last:m[0]])
		last = m[1]
		v, ok := value(text[m[2]:m[3]], quotes.open)
		if !ok || m[0] > 0 && text[m[0]-1] == '$' {
			v = text[m[0]:m[1]]
		}
		b.WriteString(v)
	}
	b.WriteString(text[last:])
	return b.String()
}

// shellQuotes follows the quotes of a POSIX shell (XCU 2.2).
type shellQuotes struct {
	open    byte // the kind of quotes that are open, or 0
	escaped bool
}

func (q *shellQuotes) pass(text string) {
	for i := range len(text) {
		c := text[i]
		switch {
		case q.escaped:
			q.escaped = false
		case c == '\\' && q.open != '\'':
			q.escaped = true
		case q.open == 0 && (c == '"' || c == '\''):
			q.open = c
		case c == q.open:
			q.open = 0
		}
	}
}

// shown returns the line for people, with its arguments filled in.
func (c Command) shown() string {
	line := c.Shell
	for i, value := range c.Args {
		argument := "${" + strconv.Itoa(i+1) + "}"
		line = strings.NewReplacer(
			`'"`+argument+`"'`,
			value,
			`"`+argument+`"`,
			format.Quoted(value),
			argument,
			value,
		).Replace(
			line,
		)
	}
	return line
}
