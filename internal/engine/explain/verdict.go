package explain

import (
	"fmt"
	"slices"
	"sort"
	"strings"

	"omnivigil/internal/engine"
	"omnivigil/internal/text/format"
)

// Verdict returns what follows the verdict's word: "all 6 run the code saved 12:04:31, at rest after 2.3 s".
func Verdict(s *engine.Snapshot) string {
	if s.Verdict.Why == engine.EverythingEnded {
		return "everything has ended"
	}
	text := reason(s) + arguments(s)
	if s.Verdict.Why != engine.UnitsStale || !slices.ContainsFunc(s.Standing.Stale, stalledByPause) {
		text += paused(s) // otherwise it is the reason for the word
	}
	if s.Verdict.Word == engine.VerdictCurrent && len(s.Doubts) > 0 {
		text += "; " + format.Count(len(s.Doubts), "doubt") + ": " + Doubt(s.Doubts[0])
	}
	return text
}

func stalledByPause(u *engine.Unit) bool { return u.Stale != nil && u.Stale.Block.Paused() }

// reason describes what decided the verdict.
func reason(s *engine.Snapshot) string {
	st := &s.Standing
	switch s.Verdict.Why {
	case engine.Quitting:
		return "quitting: " + motions(st, slices.Concat(st.Moving, st.Ending))
	case engine.UnitsBroken:
		return broken(st)
	case engine.NotWatched:
		return "files are not watched: " + s.Verdict.Problem
	case engine.UnitsMoving:
		return motions(st, st.Moving)
	case engine.SettingsUnread:
		return "reading the settings just saved"
	case engine.UnitsStale:
		return stale(st.Stale)
	case engine.SettingsBroken:
		problem, _, _ := strings.Cut(s.Verdict.Problem, "\n")
		return settingsBroken + problem
	case engine.UnitsEnding:
		return motions(st, st.Ending)
	case engine.NothingWanted:
		return "no unit is enabled" + stopped(st)
	}
	return current(s)
}

// arguments are the arguments that the user has added to commands.
func arguments(s *engine.Snapshot) string {
	switch with := s.Standing.Worded; len(with) {
	case 0:
		return ""
	case 1:
		if len(s.Units) == 1 {
			return "; with " + format.Typed(with[0].Words)
		}
		return fmt.Sprintf("; %s with %s", with[0].Name, format.Typed(with[0].Words))
	default:
		return fmt.Sprintf("; %d units with added arguments", len(with))
	}
}

// paused names the paused units.
func paused(s *engine.Snapshot) string {
	switch all := s.Standing.Paused; {
	case s.Paused:
		return "; all reactions are paused"
	case len(all) == 1:
		return "; " + all[0].Name + " is paused"
	case len(all) > 1:
		return "; " + named(all, func(u *engine.Unit) string { return u.Name }) + " are paused"
	}
	return ""
}

// maxNamed limits the units that a verdict names; the others are counted.
const maxNamed = 3

// named joins texts about units, the first of them in full.
func named[T any](all []T, say func(T) string) string {
	var parts []string
	for _, u := range all[:min(len(all), maxNamed)] {
		parts = append(parts, say(u))
	}
	if more := len(all) - maxNamed; more > 0 {
		parts = append(parts, fmt.Sprintf("%d more", more))
	}
	return strings.Join(parts, ", ")
}

func broken(st *engine.Standing) string {
	text := named(st.Broken, func(c engine.Culprit) string {
		text := Broken(c.Unit)
		if c.HoldsUp > 0 {
			text += " and holds up " + format.Count(c.HoldsUp, "unit")
		}
		return text
	})
	if len(st.Moving) > 0 {
		text += "; " + named(st.Moving, func(u *engine.Unit) string { return motion(u, "") })
	}
	return text
}

// stale describes the cause that keeps most units stale, and the others in short.
func stale(all []*engine.Unit) string {
	by, causes := map[string][]*engine.Unit{}, []string{}
	for _, u := range all {
		if by[u.Stale.Root] == nil {
			causes = append(causes, u.Stale.Root)
		}
		by[u.Stale.Root] = append(by[u.Stale.Root], u)
	}
	sort.SliceStable(causes, func(i, j int) bool { return len(by[causes[i]]) > len(by[causes[j]]) })
	text := staleTogether(by[causes[0]])
	for _, root := range causes[1:min(len(causes), maxNamed)] {
		text += fmt.Sprintf("; %s stale: %s", names(by[root]), block(by[root][0].Stale.Block))
	}
	if more := len(causes) - maxNamed; more > 0 {
		text += fmt.Sprintf("; %d more causes", more)
	}
	return text
}

// names names the first of several units and counts the others.
func names(all []*engine.Unit) string {
	if len(all) == 1 {
		return all[0].Name
	}
	return fmt.Sprintf("%s and %d more", all[0].Name, len(all)-1)
}

// staleTogether describes units that are stale for the same cause.
func staleTogether(all []*engine.Unit) string {
	u, many, s := all[0], len(all) > 1, all[0].Stale
	one := func(single, several string) string {
		if many {
			return several
		}
		return single
	}
	because, own := block(s.Block), s.Root == u.Name && !many
	ran, live := u.Run.Number > 0, u.Run.Number > 0 && u.Run.EndedAt.IsZero()
	switch {
	case own && (s.Block.Kind == engine.BlockNarrowed || s.Block.Kind == engine.BlockPass):
		return because
	case !ran && many:
		return fmt.Sprintf("%s have not started: %s", names(all), because)
	case !ran && own:
		return u.Name + " has not started"
	case !ran:
		return fmt.Sprintf("%s has not started: %s", u.Name, because)
	case s.Since.IsZero():
		return fmt.Sprintf("%s %s not current: %s", names(all), one("is", "are"), because)
	}
	did := one("still runs the code from before", "still run the code from before")
	switch {
	case !live && u.State != engine.Done:
		did = one("has not run the code saved", "have not run the code saved")
	case u.Kind.Ends():
		did = one("was made from the code before", "were made from the code before")
	}
	return fmt.Sprintf("%s %s %s: %s", names(all), did, format.Clock(s.Since.Wall), because)
}

// Stale tells why a stale unit does not run the newest code.
func Stale(s engine.Staleness) string { return block(s.Block) }

// Why tells what prevents a stale or waiting unit from becoming current; empty for other units.
func Why(u *engine.Unit) string {
	switch {
	case u.Stale != nil:
		return Stale(*u.Stale)
	case u.Wait.Kind == engine.WaitLookout:
		return lookout(u.Wait)
	case u.Wait.Kind != engine.WaitFollow && u.Wait.On != "":
		return "waits for " + u.Wait.On
	}
	return ""
}

// block describes what keeps a unit, and all that wait for it, from the newest code.
func block(b engine.Block) string {
	switch b.Kind {
	case engine.BlockOutputs:
		return format.List(b.Files) + " is missing, which " + b.Unit + " makes"
	case engine.BlockNarrowed:
		return b.Unit + " is narrowed to " + b.To + notRun(b.NotRun)
	case engine.BlockPaused:
		return b.Unit + " is paused" + onResume(b)
	case engine.BlockAll:
		return "all reactions are paused" + onResume(b)
	case engine.BlockPass:
		return b.Unit + " " + missed(b.Since)
	case engine.BlockManual:
		return b.Unit + " runs only when asked"
	case engine.BlockOwed:
		return b.Unit + " still has to run " + b.Command
	case engine.BlockNever:
		return b.Unit + " was not started"
	}
	if b.State.Broken() {
		return b.Unit + " " + b.State.String()
	}
	return b.Unit + " is " + b.State.String()
}

// notRun tells how many tests a narrowed unit did not run.
func notRun(n int) string {
	if n == 0 {
		return ""
	}
	return ", " + format.Count(n, "test") + " not run"
}

// onResume describes what the unit will do when reactions are resumed; empty: unknown.
func onResume(b engine.Block) string {
	if len(b.Resume) == 0 {
		return ""
	}
	return "; on resume " + b.Unit + " " + b.Verb + ": " + Reasons(b.Resume)
}

// motions describe the moving units, each with what it does or waits for.
func motions(st *engine.Standing, moving []*engine.Unit) string {
	last := ""
	return fmt.Sprintf("%d of %d: ", len(moving), st.Counted) + named(moving, func(u *engine.Unit) string {
		text := motion(u, last)
		last = u.Name
		return text
	})
}

// motion describes what a moving unit does; last is the unit named just before.
func motion(u *engine.Unit, last string) string {
	switch w := u.Wait; w.Kind {
	case engine.WaitLookout:
		return u.Name + " " + lookout(w)
	case engine.WaitSettle:
		return u.Name + " waits for saves to settle"
	case engine.WaitJob:
		return u.Name + " queued"
	case engine.WaitUnit:
		if w.On == last {
			return u.Name + " waits for it"
		}
		return u.Name + " waits for " + w.On
	case engine.WaitInput:
		return u.Name + " waits for " + w.Input
	case engine.WaitPass:
		return u.Name + " " + missed(w.Since)
	case engine.WaitFollow:
		return u.Name + " follows " + w.On
	}
	text := u.Name + " " + u.State.String()
	if pace := Pace(u.Run.Pace); pace != "" {
		text += ", " + pace
	}
	if u.State == engine.Running && u.Report.Run == u.Run.Number && u.Kind.Ends() {
		if failing := soFar(u.Report); failing != "" {
			text += ", " + failing
		}
	}
	return text
}

func lookout(w engine.Wait) string {
	if len(w.Files) == 0 {
		return "waits a moment"
	}
	who := "it"
	if w.On != "" {
		who = w.On
	}
	return "waits a moment: " + who + " may have written " + format.List(w.Files)
}

func stopped(st *engine.Standing) string {
	if st.Stopped == 0 {
		return ""
	}
	return fmt.Sprintf("; %d stopped", st.Stopped)
}

// current describes which units run which saved code.
func current(s *engine.Snapshot) string {
	st, all := &s.Standing, len(s.Units)
	who := fmt.Sprintf("all %d run", all)
	switch {
	case st.Wanted < all:
		who = fmt.Sprintf("%d of %d run", st.Wanted, all)
	case all == 1:
		// A changing number is visible from the corner of an eye.
		who = fmt.Sprintf("%s (run %d) runs", s.Units[0].Name, s.Units[0].Run.Number)
	}
	notes := stopped(st)
	for _, u := range st.Ending {
		notes += "; " + motion(u, "")
	}
	notes += findings(st) + looping(st)
	if st.Save != nil {
		notes += restored(s, st.Save.At)
	}
	switch save := st.Save; {
	case save != nil && save.Current:
		return fmt.Sprintf("%s the code saved %s, at rest after %s%s", who, format.Clock(save.At.Wall),
			format.Duration(save.Took), notes)
	case save != nil: // a later run made it good
		return fmt.Sprintf("%s the code saved %s%s", who, format.Clock(save.At.Wall), notes)
	case len(s.Ripples) == 0:
		return who + notes
	}
	return fmt.Sprintf("%s, started in %s%s", who, format.Duration(st.StartedIn), notes)
}

// restored names the units whose results were restored since a save.
func restored(s *engine.Snapshot, save engine.Moment) string {
	var names []string
	from := ""
	for _, u := range s.Units {
		if u.Run.Restored && !u.Run.OrderedAt.Before(save) {
			names = append(names, u.Name)
			from = " from " + format.RunOf(u.Run.MadeBy, format.Moment(u.Run.Reused, s.At.Wall))
		}
	}
	switch len(names) {
	case 0:
		return ""
	case 1:
		return "; " + names[0] + " restored" + from
	}
	return "; restored: " + format.List(names)
}

// findings describe reported findings that break nothing.
func findings(st *engine.Standing) string {
	var parts []string
	if st.Errors > 0 {
		parts = append(parts, format.Count(st.Errors, "error"))
	}
	if st.Warnings > 0 {
		parts = append(parts, format.Count(st.Warnings, "warning"))
	}
	if len(parts) == 0 {
		return ""
	}
	return "; " + strings.Join(parts, ", ")
}

// looping names the first unit with a loop that the user has not accepted.
func looping(st *engine.Standing) string {
	if len(st.Loops) == 0 {
		return ""
	}
	u := st.Loops[0]
	if u.Loop.Alone() {
		return "; " + u.Name + " writes what makes it " + infinitive(u.Loop.Round[0].Does) + ", which is ignored"
	}
	return "; a loop of " + u.Name + " and " + u.Loop.Round[0].Unit + " was stopped"
}
