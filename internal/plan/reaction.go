package plan

import (
	"regexp"
	"slices"
	"strconv"
	"strings"

	"omnivigil/internal/plan/capture"
	"omnivigil/internal/text/suggest"
)

// readReactions reads [[service.NAME.reaction]] tables, or a list of tables.
func readReactions(r *reader, u *Unit, e *entry) {
	if e.value.kind != tablesKind && !r.want(e.value, listKind, e.key) {
		return
	}
	u.Reactions = nil
	for _, item := range e.value.items {
		if r.want(item, tablesKind, e.key) {
			u.Reactions = append(u.Reactions, r.reaction(item))
		}
	}
}

// actions are the words that "do" takes, beside signal:NAME.
var actions = map[string]Action{
	"restart":      Act,
	"rerun":        Act,
	"nothing":      Nothing,
	"refresh-page": RefreshPage,
	"swap-style":   SwapStyle,
}

func (r *reader) reaction(v *value) Reaction {
	var out Reaction
	for _, k := range v.table.entries {
		switch k.key {
		case "when":
			if r.want(k.value, textKind, "when") {
				out.When = r.pattern(k.value)
			}
		case "run":
			c := r.command(k.value, "run")
			out.Run = &c
		case "do":
			if r.want(k.value, textKind, "do") {
				out.Do, out.Signal = r.action(k.value)
			}
		default:
			r.unknown(k, "a reaction", []string{"when", "run", "do"})
		}
	}
	do := v.table.get("do")
	switch {
	case v.table.get("when") == nil:
		r.wrong(v.at, `say which files it is for: when = "..."`, "a reaction has no \"when\"")
	case out.Run == nil && do == nil:
		r.wrong(v.at, `say what follows: run = "..." or do = "restart"`, "a reaction has neither \"run\" nor \"do\"")
	case out.Run != nil && do != nil:
		r.wrong(do.keyAt, "keep one of them", "a reaction has both \"run\" and \"do\"")
	case out.Run != nil:
		r.checkCaptures(out, v.table.get("run").value.at)
		r.checkNested(*out.Run, v.table.get("run").value.at)
	}
	return out
}

func (r *reader) action(v *value) (Action, string) {
	if name, ok := strings.CutPrefix(v.text, "signal:"); ok {
		if !slices.Contains(signals, name) {
			r.wrong(v.at, "known signals: "+strings.Join(signals, ", "), "there is no signal %q", name)
		}
		return SendSignal, name
	}
	action, ok := actions[v.text]
	if !ok {
		known := []string{"restart", "rerun", "signal:HUP", "refresh-page", "swap-style", "nothing"}
		hint := "it takes " + strings.Join(known, ", ")
		if near := suggest.Name(v.text, known); near != "" {
			hint = "did you mean " + strconv.Quote(near) + "?"
		}
		r.wrong(v.at, hint, "\"do\" cannot be %q", v.text)
	}
	return action, ""
}

// Captures returns the names that the pattern captures, in order.
func (p Pattern) Captures() []string {
	var names []string
	for _, m := range capture.Expression.FindAllStringSubmatch(p.Text, -1) {
		names = append(names, m[1])
	}
	return names
}

// nestedShell finds what hands text to another shell, which would read it as code.
var nestedShell = regexp.MustCompile(`\beval\b|\bssh\b|\b(ba|da|z|k|fi)?sh\s+(-\S+\s+)*-[a-z]*c\b`)

// checkNested tells of a {name} in a text that a shell inside the command would read
// as code: what is captured is the name of a file, which may be anything.
func (r *reader) checkNested(c Command, at place) {
	nested := c.Words == nil && nestedShell.MatchString(c.Shell) && capture.Expression.MatchString(c.Shell)
	if len(c.Words) > 2 {
		nested = nestedShell.MatchString(strings.Join(c.Words[:2], " ")) && capture.Expression.MatchString(c.Words[2])
	}
	if nested {
		r.wrong(at, `hand it over as an argument: ["sh", "-c", "go test \"$1\"", "sh", "{name}"]`,
			"a shell in this command would read what is captured as code")
	}
}

// checkCaptures tells of a {name} in the command that the pattern does not
// capture. ${NAME} is the shell's.
func (r *reader) checkCaptures(re Reaction, at place) {
	known := re.When.Captures()
	words := re.Run.Words
	if words == nil {
		words = []string{re.Run.Shell}
	}
	for _, word := range words {
		for _, m := range capture.Expression.FindAllStringSubmatchIndex(word, -1) {
			name := word[m[2]:m[3]]
			if m[0] > 0 && word[m[0]-1] == '$' || slices.Contains(known, name) {
				continue
			}
			hint := "the pattern captures " + strings.Join(known, ", ")
			if near := suggest.Name(name, known); near != "" {
				hint = "did you mean {" + near + "}?"
			}
			r.wrong(at, hint, "the pattern captures no {%s}", name)
		}
	}
}
