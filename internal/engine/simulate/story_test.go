package simulate

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/txtar"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/engine"
	"omnivigil/internal/engine/explain"
	"omnivigil/internal/plan"
	"omnivigil/internal/plan/settings"
)

var update = flag.Bool("update", false, "write what happens into the stories")

// TestStories plays every story in testdata/stories: a settings file and a list
// of what happens (lines that begin with ">"), among which stands what Omnivigil
// said. Each unit behaves well unless the story says otherwise:
//
//	> start                          begin
//	> unit: ends=1s exit=1 ready=2s|never stop=ignore spawn=fail writes=200ms:web
//	                                 how its later runs behave
//	> save PATH: UNIT UNIT           a change that concerns these units
//	> save somehow PATH: UNIT        one that the unit's own run may have made
//	> save the same PATH: UNIT       one that leaves the file as it was
//	> save PATH: UNIT@2,area=fares   one that the unit's second reaction matches;
//	                                 missing=FILE: its command names what is not there
//	> settings written|broken|read   the settings file is being written; has been read
//	> REQUEST UNIT                   a request, such as "restart fares" or "pause"
//	> wait 5s                        let time pass, then show the verdict
func TestStories(t *testing.T) {
	files, err := filepath.Glob("testdata/stories/*.txt")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, file := range files {
		t.Run(filepath.Base(file), func(t *testing.T) {
			archive, err := txtar.ParseFile(file)
			require.NoError(t, err)
			require.Len(t, archive.Files, 2)
			at := filepath.Join(t.TempDir(), plan.FileName)
			require.NoError(t, os.WriteFile(at, archive.Files[0].Data, 0o644))
			p, err := settings.Read(at)
			require.NoError(t, err)
			got := tell(t, p, string(archive.Files[1].Data))
			if *update {
				archive.Files[1].Data = []byte(got)
				require.NoError(t, os.WriteFile(file, txtar.Format(archive), 0o644))
			}
			require.Equal(t, string(archive.Files[1].Data), got)
		})
	}
}

// tell plays the commands of a story and returns it with what followed.
func tell(t *testing.T, p *plan.Plan, story string) string {
	var out strings.Builder
	behaviors, failing := map[string]Behavior{}, map[string]bool{}
	well := Behavior{ReadyAfter: 300 * time.Millisecond, EndsAfter: -1, StopTakes: 50 * time.Millisecond}
	w := NewWorld(p, func(unit string, _ int) Behavior {
		if b, ok := behaviors[unit]; ok {
			return b
		}
		b := well
		if p.Unit(unit).Kind.Ends() {
			b.EndsAfter = 500 * time.Millisecond
		}
		if p.Unit(unit).Pass != nil {
			b.Tool = &Tool{Says: p.Unit(unit).Pass.Working != "", Skips: true,
				Notice: func() time.Duration { return 100 * time.Millisecond },
				Lag:    func() time.Duration { return 0 },
				Work:   func() (time.Duration, bool) { return 400 * time.Millisecond, !failing[unit] }}
		}
		return b
	})
	c := Watch(w)
	check := w.After
	w.After = func(ev engine.Event, orders []engine.Order) {
		for _, o := range orders {
			if said, ok := o.(engine.Tell); ok && !said.Quiet() {
				name := said.Unit
				if said.Kind == engine.FactRippleOpened || said.Kind == engine.FactRippleRested {
					name = fmt.Sprintf("ripple %d:", said.Ripple)
				}
				fmt.Fprintf(&out, "  %s %s %s\n", w.Now.Format("04:05.00"), name, explain.Fact(said.Fact))
			}
		}
		check(ev, orders)
	}
	for _, line := range strings.Split(story, "\n") {
		command, ok := strings.CutPrefix(line, "> ")
		if !ok {
			continue
		}
		out.WriteString(line + "\n")
		obey(t, w, behaviors, failing, well, command)
		if strings.HasPrefix(command, "wait") {
			snap := w.Engine.Snapshot()
			fmt.Fprintf(&out, "= %s  %s\n", snap.Verdict.Word, explain.Verdict(snap))
		}
	}
	require.Empty(t, c.Broken)
	return out.String()
}

func obey(
	t *testing.T,
	w *World,
	behaviors map[string]Behavior,
	failing map[string]bool,
	well Behavior,
	command string,
) {
	verb, rest, _ := strings.Cut(command, " ")
	switch {
	case command == "start":
		w.Send(engine.Begin{})
	case verb == "wait":
		d, err := time.ParseDuration(rest)
		require.NoError(t, err)
		w.Run(d)
	case verb == "save":
		rest, vague := strings.CutPrefix(rest, "somehow ")
		rest, same := strings.CutPrefix(rest, "the same ")
		path, units, _ := strings.Cut(rest, ":")
		var hits []engine.Hit
		for _, u := range strings.Fields(units) {
			hits = append(hits, parseHit(t, w.Plan, path, u))
		}
		w.Save(Saving{Debounce: 150 * time.Millisecond, Vague: vague, Same: same}, hits...)
	case verb == "passes": // of a unit end well or badly from now on
		unit, how, _ := strings.Cut(rest, " ")
		failing[unit] = how == "badly"
	case verb == "deaf":
		for _, t := range w.tools([]string{rest}) {
			t.Deaf = true
		}
	case verb == "asks": // for what comes after the colon; for nothing any more
		unit, what, _ := strings.Cut(rest, ":")
		w.Send(
			engine.Asks{
				Unit:   unit,
				Run:    w.Engine.Snapshot().Unit(unit).Run.Number,
				Number: w.Steps + 1,
				For:    strings.TrimSpace(what),
			},
		)
	case verb == "look": // at a service; what comes after the colon is wrong with it
		unit, problem, _ := strings.Cut(rest, ":")
		w.Send(
			engine.Checked{
				Unit:    unit,
				Run:     w.Engine.Snapshot().Unit(unit).Run.Number,
				Problem: strings.TrimSpace(problem),
			},
		)
	case verb == "survey": // LOAD FOREIGN UNIT...
		var ev engine.Surveyed
		_, err := fmt.Sscan(rest, &ev.Load, &ev.Foreign)
		require.NoError(t, err)
		ev.Busy = strings.Fields(rest)[2:]
		w.Send(ev)
	case verb == "narrow":
		unit, to, _ := strings.Cut(rest, " to ")
		w.Send(engine.Requested{Request: engine.Narrow, Units: []string{unit}, Words: []string{"-run", to}, To: to})
	case command == "settings written":
		w.Send(engine.SettingsTouched{Burst: 1})
	case command == "settings broken":
		w.Send(engine.PlanBroken{Problem: "omnivigil.toml:3:1: unknown key", Burst: 1})
	case command == "settings read":
		w.Send(engine.NewPlan{Plan: w.Plan, Burst: 1})
	case strings.HasSuffix(verb, ":"):
		unit := strings.TrimSuffix(verb, ":")
		b := well
		if w.Plan.Unit(unit).Kind.Ends() {
			b.EndsAfter = 500 * time.Millisecond
		}
		for _, word := range strings.Fields(rest) {
			b = b.with(t, word)
		}
		behaviors[unit] = b
	default:
		request, unit := command, ""
		if i := strings.LastIndexByte(command, ' '); i >= 0 && w.Plan.Unit(command[i+1:]) != nil {
			request, unit = command[:i], command[i+1:]
		}
		w.Send(engine.Requested{Request: engine.Request(request), Units: strings.Fields(unit)})
	}
}

// parseHit reads a unit's name, with which of its reactions has matched and what that
// took.
func parseHit(t *testing.T, p *plan.Plan, path, text string) engine.Hit {
	unit, more, reaction := strings.Cut(text, "@")
	require.NotNil(t, p.Unit(unit), "no unit %s", unit)
	h := engine.Hit{Unit: unit, Path: path, What: "written", Rule: path, TakenUp: p.Unit(unit).Pass != nil && !reaction}
	if !reaction {
		return h
	}
	number, captures, _ := strings.Cut(more, ",")
	_, err := fmt.Sscan(number, &h.Reaction)
	require.NoError(t, err)
	h.Captures, h.Rule = map[string]string{}, p.Unit(unit).Reactions[h.Reaction-1].When.Text
	for _, c := range strings.Split(captures, ",") {
		name, value, _ := strings.Cut(c, "=")
		h.Captures[name] = value
	}
	h.Missing = h.Captures["missing"]
	return h
}

// with changes one trait, written as name=value.
func (b Behavior) with(t *testing.T, trait string) Behavior {
	name, value, _ := strings.Cut(trait, "=")
	length := func() time.Duration {
		if value == "never" || value == "ignore" {
			return -1
		}
		d, err := time.ParseDuration(value)
		require.NoError(t, err)
		return d
	}
	switch name {
	case "spawn":
		b.NoSpawn = value == "fail"
	case "ready":
		b.ReadyAfter = length()
	case "ends":
		b.EndsAfter = length()
	case "stop":
		b.StopTakes = length()
	case "writes":
		value, b.Writes, _ = strings.Cut(value, ":")
		b.WriteAfter = length()
	case "fails": // by what it says, with exit 0
		b.Fails = value == "1"
	case "exit":
		_, err := fmt.Sscan(value, &b.Exit.Code)
		require.NoError(t, err)
	case "signal":
		b.Exit = engine.Exit{Code: -1, Signal: value}
	default:
		t.Fatalf("no trait %s", name)
	}
	return b
}
