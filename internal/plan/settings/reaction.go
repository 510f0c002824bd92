package settings

import (
	"slices"
	"strconv"
	"strings"

	"omnivigil/internal/plan"
	"omnivigil/internal/plan/capture"
	"omnivigil/internal/plan/document"
	"omnivigil/internal/text/lazyregexp"
	"omnivigil/internal/text/suggest"
)

// readReactions reads [[service.NAME.reaction]] tables, or a list of tables.
func readReactions(r *reader, u *plan.Unit, e *document.Entry) {
	if e.Value.Kind != document.TablesKind && !r.Want(e.Value, document.ListKind, e.Key) {
		return
	}
	u.Reactions = nil
	for _, item := range e.Value.Items {
		if r.Want(item, document.TablesKind, e.Key) {
			u.Reactions = append(u.Reactions, r.reaction(item))
		}
	}
}

// actions are the values of "do", in addition to signal:NAME.
var actions = map[string]plan.Action{
	"restart":      plan.Act,
	"rerun":        plan.Act,
	"nothing":      plan.Nothing,
	"refresh-page": plan.RefreshPage,
	"swap-style":   plan.SwapStyle,
}

func (r *reader) reaction(v *document.Value) plan.Reaction {
	var out plan.Reaction
	for _, k := range v.Table.Entries {
		switch k.Key {
		case "when":
			if r.Want(k.Value, document.TextKind, "when") {
				out.When = r.pattern(k.Value)
			}
		case "run":
			c := r.command(k.Value, "run")
			out.Run = &c
		case "do":
			if r.Want(k.Value, document.TextKind, "do") {
				out.Do, out.Signal = r.action(k.Value)
			}
		default:
			r.Unknown(k, "a reaction", []string{"when", "run", "do"})
		}
	}
	do := v.Table.Get("do")
	switch {
	case v.Table.Get("when") == nil:
		r.Wrong(v.At, `say which files it is for: when = "..."`, "a reaction has no \"when\"")
	case out.Run == nil && do == nil:
		r.Wrong(v.At, `say what follows: run = "..." or do = "restart"`, "a reaction has neither \"run\" nor \"do\"")
	case out.Run != nil && do != nil:
		r.Wrong(do.KeyAt, "keep one of them", "a reaction has both \"run\" and \"do\"")
	case out.Run != nil:
		r.checkCaptures(out, v.Table.Get("run").Value.At)
		r.checkNested(*out.Run, v.Table.Get("run").Value.At)
	}
	return out
}

func (r *reader) action(v *document.Value) (plan.Action, string) {
	if name, ok := strings.CutPrefix(v.Text, "signal:"); ok {
		if !slices.Contains(signals, name) {
			r.Wrong(v.At, "known signals: "+strings.Join(signals, ", "), "there is no signal %q", name)
		}
		return plan.SendSignal, name
	}
	action, ok := actions[v.Text]
	if !ok {
		known := []string{"restart", "rerun", "signal:HUP", "refresh-page", "swap-style", "nothing"}
		hint := "it takes " + strings.Join(known, ", ")
		if near := suggest.Name(v.Text, known); near != "" {
			hint = "did you mean " + strconv.Quote(near) + "?"
		}
		r.Wrong(v.At, hint, "\"do\" cannot be %q", v.Text)
	}
	return action, ""
}

// nestedShell matches what passes text to another shell, which would read it as code.
var nestedShell = lazyregexp.New(`\beval\b|\bssh\b|\b(ba|da|z|k|fi)?sh\s+(-\S+\s+)*-[a-z]*c\b`)

// checkNested reports a {name} in a text that a shell inside the command would read as code: a capture is part of a
// file name, which may be anything.
func (r *reader) checkNested(c plan.Command, at document.Place) {
	nested := c.Words == nil && nestedShell.MatchString(c.Shell) && capture.Expression.MatchString(c.Shell)
	if len(c.Words) > 2 {
		nested = nestedShell.MatchString(strings.Join(c.Words[:2], " ")) && capture.Expression.MatchString(c.Words[2])
	}
	if nested {
		r.Wrong(at, `hand it over as an argument: ["sh", "-c", "go test \"$1\"", "sh", "{name}"]`,
			"a shell in this command would read what is captured as code")
	}
}

// checkCaptures reports a {name} in the command that the pattern does not capture. ${NAME} belongs to the shell.
func (r *reader) checkCaptures(re plan.Reaction, at document.Place) {
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
			r.Wrong(at, hint, "the pattern captures no {%s}", name)
		}
	}
}
