package engine

import (
	"fmt"
	"slices"
	"sort"
	"strconv"
	"strings"

	"omnivigil/internal/text/format"
)

// Verdict is the project's state in one line.
type Verdict struct {
	Word VerdictWord
	Text string // what stands behind the word
}

// VerdictWord is the verdict in one word.
type VerdictWord uint8

const (
	VerdictCurrent VerdictWord = iota
	VerdictUpdating
	VerdictStale
	VerdictBroken
	VerdictStopped // nothing is wanted
)

func (w VerdictWord) String() string {
	return [...]string{"CURRENT", "UPDATING", "STALE", "BROKEN", "STOPPED"}[w]
}

// verdict weighs all units. A failure that has no other cause is
// broken and comes first; one that keeps a running unit on old code is told as
// that unit's staleness, because this is what hurts the person, except a pass, whose
// error does. It is current if and only if some unit is wanted, every wanted unit is
// current and at rest, the saved settings are in use, and files are watched.
func (e *Engine) verdict() Verdict {
	v := e.judge()
	if !e.gone {
		if v.Text += e.addedWords(); !strings.Contains(v.Text, "paused") { // else it is the reason for the word
			v.Text += e.pausedWords()
		}
	}
	if v.Word == VerdictCurrent {
		v.Text += e.doubtWords()
	}
	return v
}

// addedWords tells of words that the person has added to commands, as long as they hold.
func (e *Engine) addedWords() string {
	e.worded = slices.DeleteFunc(e.worded, func(u *unit) bool { return u.removed || len(u.words) == 0 })
	switch len(e.worded) {
	case 0:
		return ""
	case 1:
		if len(e.units) == 1 {
			return "; with " + format.Typed(e.worded[0].words)
		}
		return fmt.Sprintf("; %s with %s", e.worded[0].spec.Name, format.Typed(e.worded[0].words))
	}
	return fmt.Sprintf("; %d units with words added", len(e.worded))
}

// pausedWords name what does not react to changes, as long as that is so.
func (e *Engine) pausedWords() string {
	switch paused := e.standings.paused; {
	case e.paused:
		return "; all reactions are paused"
	case len(paused) == 1:
		return "; " + paused[0].spec.Name + " is paused"
	case len(paused) > 1:
		return "; " + named(paused, func(u *unit) string { return u.spec.Name }) + " are paused"
	}
	return ""
}

func (e *Engine) judge() Verdict {
	w := e.weigh()
	switch {
	case e.gone:
		return Verdict{VerdictStopped, "everything has ended"}
	case e.quitting:
		return Verdict{VerdictUpdating, "quitting: " + e.motions(slices.Concat(w.moving, w.ending))}
	case w.untold:
		return Verdict{VerdictBroken, w.brokenText()}
	case e.unwatched != "" && w.wanted > 0:
		return Verdict{VerdictStale, "files are not watched: " + e.unwatched}
	case len(w.moving) > 0:
		return Verdict{VerdictUpdating, e.motions(w.moving)}
	case e.settingsPending():
		return Verdict{VerdictUpdating, "reading the settings just saved"}
	case len(w.stale) > 0:
		return Verdict{VerdictStale, w.staleText()}
	case e.broken != "":
		problem, _, _ := strings.Cut(e.broken, "\n")
		return Verdict{VerdictStale, "the settings just saved have an error and are not used: " + problem}
	case w.wanted == 0 && len(w.ending) > 0:
		return Verdict{VerdictUpdating, e.motions(w.ending)}
	case w.wanted == 0:
		return Verdict{VerdictStopped, "nothing is to run" + w.stoppedWords()}
	}
	return Verdict{VerdictCurrent, e.currentText(w)}
}

// weights are a project's units, sorted by what they mean for its verdict, each list
// in the order of the file.
type weights struct {
	*standings
	broken []*unit       // causes of much first
	heldUp map[*unit]int // how many of the stale each unit is the cause of, but itself
	untold bool          // some unit is broken that is not told as the cause of older code running
}

func (e *Engine) weigh() *weights {
	w, told := &weights{
		standings: &e.standings,
		broken:    slices.Clone(e.standings.broken),
		heldUp:    map[*unit]int{},
	}, map[*unit]bool{}
	for _, u := range w.stale {
		if root := u.staleness().root; root != u {
			w.heldUp[root]++
			told[root] = told[root] || u.run != nil && root.spec.Pass == nil
		}
	}
	for _, u := range w.broken {
		w.untold = w.untold || !told[u]
	}
	// Causes come first, by how much they hold up.
	sort.SliceStable(w.broken, func(i, j int) bool { return w.heldUp[w.broken[i]] > w.heldUp[w.broken[j]] })
	return w
}

func (e *Engine) inFileOrder() []*unit {
	units := make([]*unit, 0, len(e.units))
	for _, spec := range e.plan.Units {
		units = append(units, e.byName[spec.Name])
	}
	return append(units, e.units[len(units):]...)
}

// maxNamed is how many units a verdict names; the rest is counted.
const maxNamed = 3

// named joins what is said of units, the first of them in full.
func named(units []*unit, say func(*unit) string) string {
	var parts []string
	for _, u := range units[:min(len(units), maxNamed)] {
		parts = append(parts, say(u))
	}
	if more := len(units) - maxNamed; more > 0 {
		parts = append(parts, fmt.Sprintf("%d more", more))
	}
	return strings.Join(parts, ", ")
}

func (w *weights) brokenText() string {
	text := named(w.broken, func(u *unit) string {
		if n := w.heldUp[u]; n > 0 {
			return u.brokenWords() + " and holds up " + units(n)
		}
		return u.brokenWords()
	})
	if len(w.moving) > 0 {
		text += "; " + named(w.moving, func(u *unit) string { return u.motion("") })
	}
	return text
}

func units(n int) string {
	if n == 1 {
		return "1 unit"
	}
	return strconv.Itoa(n) + " units"
}

// staleText tells of the cause that holds up the most, and counts the others.
func (w *weights) staleText() string {
	by, causes := map[*unit][]*unit{}, []*unit{}
	for _, u := range w.stale {
		root := u.staleness().root
		if by[root] == nil {
			causes = append(causes, root)
		}
		by[root] = append(by[root], u)
	}
	sort.SliceStable(causes, func(i, j int) bool { return len(by[causes[i]]) > len(by[causes[j]]) })
	text := staleTogether(by[causes[0]])
	for _, root := range causes[1:min(len(causes), maxNamed)] {
		text += fmt.Sprintf("; %s stale: %s", names(by[root]), root.blockingWords())
	}
	if more := len(causes) - maxNamed; more > 0 {
		text += fmt.Sprintf("; %d more causes", more)
	}
	return text
}

// names names the first of several units and counts the rest.
func names(all []*unit) string {
	if len(all) == 1 {
		return all[0].spec.Name
	}
	return fmt.Sprintf("%s and %d more", all[0].spec.Name, len(all)-1)
}

// staleTogether tells of units that are stale for the same cause.
func staleTogether(stale []*unit) string {
	u, many := stale[0], len(stale) > 1
	s := u.staleness()
	one := func(single, several string) string {
		if many {
			return several
		}
		return single
	}
	switch {
	case u.narrowed != "" && !many && s.root == u:
		return u.spec.Name + " " + u.narrowedWords()
	case s.root.missedPass() && !many && s.root == u:
		return u.spec.Name + " " + u.missedWords()
	case u.run == nil && many:
		return fmt.Sprintf("%s have not started: %s", names(stale), s.Text)
	case u.run == nil && s.root == u:
		return fmt.Sprintf("%s has not started", names(stale))
	case u.run == nil:
		return fmt.Sprintf("%s has not started: %s", names(stale), s.Text)
	case s.Since.IsZero():
		return fmt.Sprintf("%s %s not current: %s", names(stale), one("is", "are"), s.Text)
	case !u.live() && u.state != Done:
		return fmt.Sprintf(
			"%s %s not run the code saved %s: %s",
			names(stale),
			one("has", "have"),
			format.Clock(s.Since.Wall),
			s.Text,
		)
	case u.ends():
		return fmt.Sprintf(
			"%s %s made from the code before %s: %s",
			names(stale),
			one("was", "were"),
			format.Clock(s.Since.Wall),
			s.Text,
		)
	}
	return fmt.Sprintf(
		"%s still %s the code from before %s: %s",
		names(stale),
		one("runs", "run"),
		format.Clock(s.Since.Wall),
		s.Text,
	)
}

// motions tells who is on the way, each with what it does or waits for.
func (e *Engine) motions(moving []*unit) string {
	last := ""
	return fmt.Sprintf("%d of %d: ", len(moving), e.standings.counted) + named(moving, func(u *unit) string {
		text := u.motion(last)
		last = u.spec.Name
		return text
	})
}

// motion says what a moving unit does; last is the unit named just before.
func (u *unit) motion(last string) string {
	if u.obstacle != nil && u.obstacle.lookout {
		return u.spec.Name + " " + u.lookoutWords()
	}
	if u.obstacle != nil && u.obstacle.settles {
		return u.spec.Name + " waits for saves to settle"
	}
	if u.inLine() {
		return u.spec.Name + " queued"
	}
	if u.obstacle != nil && u.obstacle.on != nil && u.state != Running && u.state != Stopping {
		on := u.obstacle.on.spec.Name
		if on == last {
			on = "it"
		}
		return u.spec.Name + " waits for " + on
	}
	switch {
	case u.asks() != "":
		return u.spec.Name + " waits for " + u.asks()
	case u.state.InMotion():
		text := u.spec.Name + " " + u.state.String()
		if u.state == Running && u.report.Run == u.run.Number && u.spec.Kind.Ends() {
			if words := u.report.soFar(); words != "" {
				text += ", " + words
			}
		}
		return text
	case u.awaitsPass():
		return u.spec.Name + " has not picked up the save of " + format.Clock(u.staleSince.Wall)
	}
	for _, f := range u.follows {
		if f.moving {
			return u.spec.Name + " follows " + f.spec.Name
		}
	}
	return u.spec.Name + " waits for saves to settle"
}

// asks is what the unit waits for in input before it can go on; else empty.
func (u *unit) asks() string {
	if !u.live() || u.state != Running && u.state != Starting && u.state != Setup {
		return ""
	}
	return u.run.asksFor
}

func (w *weights) stoppedWords() string {
	if w.stopped == 0 {
		return ""
	}
	return fmt.Sprintf("; %d stopped", w.stopped)
}

func (e *Engine) currentText(w *weights) string {
	all := len(e.units)
	who := fmt.Sprintf("all %d run", all)
	switch {
	case w.wanted < all:
		who = fmt.Sprintf("%d of %d run", w.wanted, all)
	case all == 1:
		// The number is seen to change from the corner of an eye.
		who = fmt.Sprintf("%s (run %d) runs", e.units[0].spec.Name, e.units[0].run.Number)
	}
	notes := w.stoppedWords()
	for _, u := range w.ending {
		notes += "; " + u.motion("")
	}
	notes += e.findingWords() + e.loopWords()
	r := e.newest
	switch {
	case r != nil && r.Outcome == EndedCurrent:
		return fmt.Sprintf(
			"%s the code saved %s, at rest after %s%s",
			who,
			format.Clock(r.Since.Wall),
			format.Duration(r.RestAt.Sub(r.Since)),
			notes,
		)
	case r != nil: // something later made it good
		return fmt.Sprintf("%s the code saved %s%s", who, format.Clock(r.Since.Wall), notes)
	case e.ripples.lastID == 0:
		return who + notes
	}
	return fmt.Sprintf("%s, started in %s%s", who, format.Duration(e.startedIn), notes)
}
